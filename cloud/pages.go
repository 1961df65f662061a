package cloud

import "kambrel.example/kambrel/core/problem"

// pages walks through a list and believes no page before it has looked at it: a
// service that ignores where a page was to begin, or ends a list early, would
// else pass for one that has lost most of its people.
type pages struct {
	what   string // what is read, for errors
	start  int    // 1-based index of the next page, 0 before the first
	cursor string // of the next page, where the list is read by cursor

	seen  map[string]struct{}
	total int // as the last page said
}

// take looks at one page and tells whether another one follows. from is the index at which the service says that the page begins, 0
// where it does not say; next is the cursor of the next page.
func (p *pages) take(ids []string, total, from int, next string) (more bool, err error) {
	if p.seen == nil {
		p.seen = map[string]struct{}{}
	}
	asked := max(p.start, 1)
	byCursor := next != "" || p.cursor != ""
	if !byCursor && from > 0 && from != asked {
		return false, p.incomplete("the page from number %d on was asked for, and that from number %d on came", asked, from)
	}
	known := len(p.seen)
	for i, id := range ids {
		if id == "" {
			return false, p.incomplete("number %d has no id", asked+i)
		}
		p.seen[id] = struct{}{}
	}
	p.total, p.start = total, asked+len(ids)
	switch {
	case len(ids) > 0 && len(p.seen) == known, next != "" && next == p.cursor:
		return false, p.incomplete("the page from number %d on is one that came before", asked)
	case byCursor:
		more = next != ""
	default:
		// A service that does not count is asked until nothing comes.
		more = len(ids) > 0 && (p.start <= total || total < len(p.seen))
	}
	p.cursor = next
	if !more && len(p.seen) < total {
		return false, p.incomplete("%d of them came, and the cloud says that there are %d", len(p.seen), total)
	}
	return more, nil
}

func (p *pages) incomplete(format string, facts ...any) error {
	return problem.New(problem.CloudListIncomplete, p.what+": "+format, facts...)
}
