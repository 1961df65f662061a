package directory

import (
	"context"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// Search names the entries that fit a filter (RFC 4515), as the directory evaluates it; a
// refusal where more than most do.
func (s *Session) Search(ctx context.Context, dialect entry.Dialect, base, filter string, most int, emit func(Item) error) error {
	parsed, err := entry.ParseDN(base)
	if err != nil {
		return problem.Wrap(problem.BadInput, err, "base of the directory")
	}
	found := 0
	d := dialectOf(dialect)
	return s.pages(ctx, parsed.String(), "(&"+d.everything()+filter+")", identified(d), func(raw *ldap.Entry) error {
		if kind := kindOf(raw.GetAttributeValues("objectClass")); kind == "" || kind == entry.Container {
			return nil
		}
		id, err := idOf(raw, d.ids())
		if err != nil {
			return badID(raw.DN, err)
		}
		if found++; found > most {
			return problem.New(problem.BadInput, "more than %d entries fit the filter: narrow it", most)
		}
		return emit(Item{Present: []entry.ID{id}})
	})
}
