package api

import (
	"context"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

type findQuery struct {
	Text   string `query:"text" maxLength:"1000" doc:"Part of a name, login, address or distinguished name, an id in any form, or a filter (RFC 4515) over the attributes that were read"`
	State  string `query:"state" enum:"in-step,suspended,leaving,left,problem,changing,not-synced,cloud-only,removed"`
	Kind   string `query:"kind" enum:"user,group,contact"`
	Sort   string `query:"sort" enum:"name,-name,login,-login,state,-state" doc:"Without it, whoever is called just so comes first, or all by name where there is no text"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

type objectQuery struct {
	Text string `query:"text" minLength:"1" maxLength:"1000" doc:"An id in any form, a distinguished name, a login, or what fits one object only"`
}

func (s *Server) objectRoutes() {
	huma.Register(s.api, operation("GET", "/objects", "find-objects", "Find entries and resources", wire.Viewer), func(ctx context.Context, in *findQuery) (*body[wire.Page[wire.Hit]], error) {
		offset, err := number(in.Cursor)
		if err != nil {
			return nil, fail(err)
		}
		hits, total, err := s.service.Explain.Find(ctx, store.FindQuery{Text: in.Text, State: in.State, Kind: in.Kind, Sort: in.Sort, Offset: int(offset), Limit: in.Limit})
		page := pageAt(views.List(hits, views.Hit), total.N, int(offset))
		if page.AtLeast = total.AtLeast; page.AtLeast && len(hits) == in.Limit {
			page.Next = strconv.Itoa(int(offset) + len(hits))
		}
		return answer(page, err)
	})
	huma.Register(s.api, operation("GET", "/search", "search", "Find everything that has a name or a number: objects, containers, directories, agents, problems and their causes, runs, revisions", wire.Viewer), func(ctx context.Context, in *struct {
		Text string `query:"text" minLength:"1" maxLength:"1000" doc:"Part of a name, an id, a number such as 'run 12', or a filter (RFC 4515)"`
	}) (*body[wire.Everything], error) {
		return answer(s.service.Explain.Everything(ctx, in.Text))
	})
	huma.Register(s.api, operation("GET", "/object", "get-object", "One object: entry, link, resource side by side, and why", wire.Viewer), func(ctx context.Context, in *objectQuery) (*body[wire.Object], error) {
		return answer(s.object(ctx, in.Text))
	})
	huma.Register(s.api, operation("GET", "/object/now", "get-object-now", "What the cloud has of an object at this moment, members of a group included, and where that differs from the mirror", wire.Viewer), func(ctx context.Context, in *objectQuery) (*body[wire.CloudNow], error) {
		return answer(s.service.Explain.Now(ctx, in.Text))
	})
	huma.Register(s.api, operation("GET", "/object/history", "get-object-history", "What happened to an object, the newest first: in the directory, in the cloud, by runs, problems and acts", wire.Viewer), func(ctx context.Context, in *struct {
		Text   string    `query:"text" required:"true" minLength:"1" maxLength:"1000" doc:"An id in any form, a distinguished name, a login, or what fits one object only"`
		Before time.Time `query:"before" doc:"Only what was before this time; before of the page before"`
	}) (*body[wire.ObjectHistory], error) {
		hit, err := s.service.Explain.Resolve(ctx, in.Text)
		if err != nil {
			return nil, fail(err)
		}
		before := in.Before
		if before.IsZero() {
			before = time.Now().Add(time.Hour) // the clock of the database may be ahead
		}
		return answer(s.service.Explain.HistoryOf(ctx, hit, before))
	})
	huma.Register(s.api, operation("GET", "/object/at", "get-object-at", "An object as it was at a time, and why, by the settings of then", wire.Viewer), func(ctx context.Context, in *struct {
		Text string    `query:"text" required:"true" minLength:"1" maxLength:"1000" doc:"An id in any form, a distinguished name, a login, or what fits one object only"`
		Time time.Time `query:"time" required:"true"`
	}) (*body[wire.ObjectAt], error) {
		hit, err := s.service.Explain.Resolve(ctx, in.Text)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.service.Explain.ObjectAt(ctx, hit, in.Time))
	})
	huma.Register(s.api, operation("GET", "/why", "why", "Why an object does or does not sync", wire.Viewer), func(ctx context.Context, in *objectQuery) (*body[wire.Why], error) {
		object, err := s.object(ctx, in.Text)
		return answer(object.Why, err)
	})
}

func (s *Server) object(ctx context.Context, text string) (wire.Object, error) {
	return s.service.Explain.Explain(ctx, text)
}

// pageAt is a page of a list whose cursor is an offset.
func pageAt[T any](items []T, total, offset int) wire.Page[T] {
	page := wire.Page[T]{Items: items, Total: total}
	if page.Items == nil {
		page.Items = []T{}
	}
	if end := offset + len(items); end < total && len(items) > 0 {
		page.Next = strconv.Itoa(end)
	}
	return page
}

// paged is a page of a list that is read by an offset, which its cursor is.
func paged[T any](cursor string, list func(offset int) ([]T, int, error)) (*body[wire.Page[T]], error) {
	offset, err := number(cursor)
	if err != nil {
		return nil, fail(err)
	}
	items, total, err := list(int(offset))
	return answer(pageAt(items, total, int(offset)), err)
}
