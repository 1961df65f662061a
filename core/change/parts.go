package change

// Parts divides diffs into those of one value each: an attribute, or one element that
// comes or goes.
func Parts(diffs []Diff) []Diff {
	var parts []Diff
	for _, d := range diffs {
		if !d.Elements() {
			parts = append(parts, d)
			continue
		}
		for i := range d.Removed {
			one := d
			one.Added, one.Removed = nil, d.Removed[i:i+1]
			parts = append(parts, one)
		}
		for i := range d.Added {
			one := d
			one.Added, one.Removed = d.Added[i:i+1], nil
			parts = append(parts, one)
		}
	}
	return parts
}

// Join puts parts together again that are about the same attribute.
func Join(parts []Diff) []Diff {
	var diffs []Diff
	at := map[string]int{}
	for _, part := range parts {
		i, met := at[part.Target]
		if !met || !part.Elements() {
			at[part.Target] = len(diffs)
			part.Added, part.Removed = append([]Member(nil), part.Added...), append([]Member(nil), part.Removed...)
			diffs = append(diffs, part)
			continue
		}
		diffs[i].Added, diffs[i].Removed = append(diffs[i].Added, part.Added...), append(diffs[i].Removed, part.Removed...)
	}
	return diffs
}

// Show writes what the diff would set for people.
func (d Diff) Show() string {
	if d.Elements() {
		return ShowElements(d)
	}
	return orNothing(d.After)
}
