package acts

import (
	"context"
	"encoding/csv"
	"io"
	"strconv"
	"time"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/sheet"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

// List lists what was done by whom, the newest first, and how many acts there are.
func (e *Acts) List(ctx context.Context, q store.ActQuery) ([]wire.Act, int, error) {
	list, total, err := e.store.Acts.List(ctx, q)
	return views.List(list, views.Act), total, err
}

// ExportCSV writes acts as CSV (RFC 4180), the newest first.
func (e *Acts) ExportCSV(ctx context.Context, q store.ActQuery, to io.Writer) error {
	w := csv.NewWriter(to)
	_ = w.Write([]string{"number", "at", "by", "origin", "kind", "title", "about", "subject", "name", "result", "before", "after", "note"}) // errors are told by Error
	if err := e.store.Acts.Each(ctx, q, func(acts []store.Act) error {
		for _, a := range acts {
			_ = w.Write(sheet.Cells(strconv.FormatInt(a.ID, 10), a.At.UTC().Format(time.RFC3339), a.By, a.Origin, string(a.Kind), act.Describe(a.Kind).Title, string(a.About), a.Subject, a.Name, string(a.Result), string(a.Before), string(a.After), a.Note))
		}
		w.Flush()
		return w.Error()
	}); err != nil {
		return err
	}
	w.Flush()
	return w.Error()
}
