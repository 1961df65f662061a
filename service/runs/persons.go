package runs

import (
	"context"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/service/store"
)

// findPersons finds out for everybody dirty who is one person with whom. It comes
// before the plan, which decides in parallel about entries that follow and lead.
func (x *execution) findPersons(ctx context.Context) error {
	if !x.Settings.HasPersons() {
		return x.store.Persons.Drop(ctx)
	}
	query := store.DirtyQuery{Only: x.subject, Without: x.Without, Limit: x.Batch}
	for {
		var batch []decide.Case
		work := func(tx *store.Store) error {
			var err error
			if batch, err = tx.Dirty.Next(ctx, query); err != nil || len(batch) == 0 {
				return err
			}
			return x.personsBatch(ctx, tx, batch)
		}
		if err := x.store.Fenced(ctx, work); err != nil || len(batch) == 0 {
			return err
		}
		query.After = batch[len(batch)-1].Entry.Ref()
	}
}

func (x *execution) personsBatch(ctx context.Context, tx *store.Store, batch []decide.Case) error {
	keys, err := x.PersonKeys(ctx, tx.Facts, batch)
	if err != nil {
		return err
	}
	touched, err := tx.Persons.ReplaceKeys(ctx, keys)
	if err != nil {
		return err
	}
	members, err := tx.Persons.Mates(ctx, touched)
	if err != nil {
		return err
	}
	return tx.Persons.Save(ctx, x.DecidePersons(members, keys))
}
