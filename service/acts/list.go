package acts

import (
	"context"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// List lists what was done by whom, the newest first, and how many acts there are.
func (e *Acts) List(ctx context.Context, q store.ActQuery) ([]wire.Act, int, error) {
	list, total, err := e.store.Acts.List(ctx, q)
	views := make([]wire.Act, len(list))
	for i, a := range list {
		known := act.Describe(a.Kind)
		views[i] = wire.Act{ID: a.ID, At: a.At, By: a.By, Kind: a.Kind, Title: known.Title, About: about.Thing{Type: a.About, Key: a.Subject}, Name: a.Name, Before: a.Before, After: a.After, Result: a.Result, Note: a.Note}
		if a.Result == act.Done {
			views[i].Undo = known.Undo
		}
	}
	return views, total, err
}
