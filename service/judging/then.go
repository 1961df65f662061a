package judging

import (
	"context"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
)

// then answers of a time that is over: what others had is not known any more, so that
// nobody stands in anybody's way. Groups are those of now.
type then struct{ decide.Facts }

// Then makes facts of a time that is over, of those of now.
func Then(now decide.Facts) decide.Facts { return then{now} }

func (then) Kin(context.Context, []entry.Ref) (map[entry.Ref]decide.Kin, error) { return nil, nil }

func (then) Formers(context.Context, []entry.Ref) (map[entry.Ref][]decide.Former, error) {
	return nil, nil
}

func (then) Heirs(context.Context, []entry.Ref) (map[entry.Ref][]decide.Former, error) {
	return nil, nil
}

func (then) Holders(context.Context, []string) (map[string][]decide.Holder, error) { return nil, nil }

func (then) FreeHolders(context.Context, []string) (map[string][]decide.Holder, error) {
	return nil, nil
}

func (then) Chosen(context.Context, []entry.Ref) (map[entry.Ref]decide.Chosen, error) {
	return nil, nil
}

func (then) Claim(context.Context, []entry.Ref, []decide.Claim) (map[string]decide.Claimant, error) {
	return nil, nil
}

func (then) Unclaim(context.Context, []entry.Ref) error { return nil }
