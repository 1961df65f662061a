package runs

import (
	"context"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/service/store"
)

// deletedResource is what the audit keeps of a resource that a run has deleted: whose it
// was, and since when they had left.
type deletedResource struct {
	ResourceID string     `json:"resourceId"`
	Kind       entry.Kind `json:"kind"`
	Name       string     `json:"name"`
	Login      string     `json:"login,omitempty"`
	LinkKey    string     `json:"linkKey,omitempty"`
	DN         string     `json:"dn"`
	Linked     *time.Time `json:"linked,omitempty"`
	Left       *time.Time `json:"left,omitempty"`
}

// deletingRun is by which run, and which one's held removals it had to let through.
type deletingRun struct {
	Run      int64 `json:"run"`
	Releases int64 `json:"releases,omitempty"`
}

// certify notes each deletion in the audit, which outlives history and runs. It comes before
// the mirror forgets the resources.
func (x *execution) certify(ctx context.Context, tx *store.Store, deletions []store.Change) error {
	if len(deletions) == 0 {
		return nil
	}
	ids := make([]string, len(deletions))
	for i, c := range deletions {
		ids[i] = c.ResourceID
	}
	known, err := tx.Resources.Known(ctx, ids)
	if err != nil {
		return err
	}
	acts := make([]act.Act, len(deletions))
	for i, c := range deletions {
		was := deletedResource{ResourceID: c.ResourceID, Kind: c.Kind, Name: c.Name, DN: c.DN}
		if k, ok := known[c.ResourceID]; ok {
			was.Name, was.Login, was.LinkKey, was.Linked, was.Left = k.Name, k.Login, k.LinkKey, k.Since, k.LeftAt
		}
		acts[i] = act.Act{Kind: act.DeleteResource, By: x.run.By, About: about.EntryOf(c.Ref()), Before: was, After: deletingRun{x.run.ID, x.run.Releases}}
		if len(c.Diffs) > 0 {
			acts[i].Note = c.Diffs[0].Source
		}
	}
	return tx.Acts.Record(ctx, acts...)
}
