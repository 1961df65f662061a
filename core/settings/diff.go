package settings

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// Difference is one place in which two documents differ; Before or After is nil
// where only the other has it.
type Difference struct {
	Path   string `json:"path"`
	Before any    `json:"before"`
	After  any    `json:"after"`
}

// Diff lists in which places two documents differ. Directories, rules and match
// rules are compared by their name, not by their place, so that one added in
// the middle is one difference.
func Diff(before, after Document) []Difference {
	differences := []Difference{}
	walk("", plain(before), plain(after), &differences)
	return differences
}

// DecideAlike tells whether two documents come to the same about everybody: they differ in
// nothing but when runs begin, for how long things are remembered, who is told, what must
// hold of them, and how the cloud is asked.
func DecideAlike(one, other Document) bool {
	for _, d := range []*Document{&one, &other} {
		d.Schedule, d.History, d.Notices, d.Expect = Schedule{}, History{}, Notices{}, nil
		d.Cloud.RequestsPerMinute, d.Cloud.Habits = 0, CloudHabits{}
	}
	return len(Diff(one, other)) == 0
}

// plain is the document as JSON decodes it.
func plain(document Document) any {
	text, err := json.Marshal(document)
	if err != nil {
		return nil // a document holds nothing that cannot be written
	}
	var value any
	_ = json.Unmarshal(text, &value)
	return value
}

func walk(path string, before, after any, out *[]Difference) {
	b, isMap := before.(map[string]any)
	a, alsoMap := after.(map[string]any)
	if isMap && alsoMap {
		for _, key := range keysOf(b, a) {
			walk(join(path, key), b[key], a[key], out)
		}
		return
	}
	bs, isList := before.([]any)
	as, alsoList := after.([]any)
	if (isList || before == nil) && (alsoList || after == nil) && (isList || alsoList) {
		named, found := byName(bs, as), len(*out)
		for _, key := range keysOf(named[0], named[1]) {
			walk(fmt.Sprintf("%s[%s]", path, key), named[0][key], named[1][key], out)
		}
		if len(*out) == found && !reflect.DeepEqual(before, after) && len(bs) == len(as) {
			*out = append(*out, Difference{path + " (order)", order(bs), order(as)})
		}
		return
	}
	if !reflect.DeepEqual(before, after) {
		*out = append(*out, Difference{path, before, after})
	}
}

// byName makes the elements of two lists findable: by name or target, or by
// the text itself where an element is one.
func byName(lists ...[]any) []map[string]any {
	out := make([]map[string]any, len(lists))
	for i, list := range lists {
		out[i] = map[string]any{}
		for j, item := range list {
			name := nameOf(item)
			if name == "" || out[i][name] != nil {
				name = fmt.Sprint(j)
			}
			out[i][name] = item
		}
	}
	return out
}

func nameOf(item any) string {
	switch v := item.(type) {
	case string:
		return v
	case map[string]any:
		for _, key := range []string{"name", "target", "entry"} {
			if name, ok := v[key].(string); ok {
				return name
			}
		}
	}
	return ""
}

func order(list []any) string {
	names := make([]string, len(list))
	for i, item := range list {
		names[i] = nameOf(item)
	}
	return strings.Join(names, ", ")
}

func keysOf(maps ...map[string]any) []string {
	var keys []string
	for _, m := range maps {
		for key := range m {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	return slices.Compact(keys)
}
