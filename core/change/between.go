package change

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/entry"
)

// Between tells in which attributes two versions of an entry differ, by name.
func Between(before, after entry.Attributes) []Diff {
	var diffs []Diff
	names := map[string]string{} // by small letters
	for _, attributes := range []entry.Attributes{before, after} {
		for name := range attributes {
			names[strings.ToLower(name)] = name
		}
	}
	for _, key := range slices.Sorted(maps.Keys(names)) {
		was, is := before.All(names[key]), after.All(names[key])
		if !slices.Equal(was, is) {
			diffs = append(diffs, Diff{Target: names[key], Before: values(was), After: values(is)})
		}
	}
	return diffs
}

// values is one text, several, or nothing.
func values(list []string) any {
	switch len(list) {
	case 0:
		return nil
	case 1:
		return list[0]
	}
	return list
}

// BetweenResources tells in which attributes two versions of a resource differ, by name; of
// complex attributes and extensions in which of their parts. When and in which version
// (meta) plays no part.
func BetweenResources(before, after entry.Resource) []Diff {
	return between("", before, after)
}

func between(prefix string, before, after map[string]any) []Diff {
	var diffs []Diff
	names := map[string]bool{}
	for _, side := range []map[string]any{before, after} {
		for name := range side {
			names[name] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if prefix == "" && (name == "meta" || name == "schemas") {
			continue
		}
		was, is := before[name], after[name]
		one, complexBefore := was.(map[string]any)
		two, complexAfter := is.(map[string]any)
		if (complexBefore || was == nil) && (complexAfter || is == nil) && (complexBefore || complexAfter) {
			separator := "."
			if strings.HasPrefix(name, "urn:") {
				separator = ":"
			}
			diffs = append(diffs, between(prefix+name+separator, one, two)...)
			continue
		}
		a, _ := json.Marshal(was)
		b, _ := json.Marshal(is)
		if string(a) != string(b) {
			diffs = append(diffs, Diff{Target: prefix + name, Before: was, After: is})
		}
	}
	return diffs
}
