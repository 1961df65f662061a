package setup

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

// Cloud tells what the cloud can do and what it holds.
func (e *Setup) Cloud(ctx context.Context) (wire.CloudView, error) {
	view := wire.CloudView{URL: e.cloud.URL(), Capabilities: []wire.Capability{}, Types: []wire.CloudType{}, Targets: []wire.Target{}, Domains: []string{}, DomainsFrom: "unknown"}
	state, err := e.store.Resources.State(ctx, entry.User)
	if err != nil {
		return view, err
	}
	if !state.Read.IsZero() {
		view.LastRead = &state.Read
	}
	forms, err := e.store.Resources.Forms(ctx)
	if err != nil {
		return view, err
	}
	view.Forms = views.List(forms, func(f store.FormCount) wire.CloudForm {
		return wire.CloudForm{Kind: f.Kind, Target: f.Target, Count: f.Count, Sent: f.Sent, Kept: f.Kept}
	})
	can, err := e.cloud.Discover(ctx)
	if err != nil {
		return view, err
	}
	view.Capabilities = capabilityTable(can)
	shown, err := e.store.Resources.MembersShown(ctx, e.cloud.URL())
	if err != nil {
		return view, err
	}
	if shown > 0 {
		view.Capabilities = append(view.Capabilities, wire.Capability{Name: "whole member lists", Detail: fmt.Sprintf("%d members of a group are listed", shown),
			Meaning: "members beyond these are believed to be as they were written; somebody whom another has added there is not seen"})
	}
	catalogue, err := e.cloud.Catalogue(ctx)
	if err != nil {
		return view, err
	}
	for _, t := range catalogue.Types {
		view.Types = append(view.Types, wire.CloudType{Name: t.Name, Endpoint: t.Endpoint, Schemas: t.Schemas})
	}
	for _, kind := range entry.Kinds {
		for _, t := range catalogue.Of(kind) {
			view.Targets = append(view.Targets, wire.Target{Kind: string(kind), Path: t.Path, Type: t.Type, Description: t.Description, MultiValued: t.MultiValued, Required: t.Required, Unique: t.Unique, ReadOnly: t.ReadOnly})
		}
	}
	document, err := e.Document(ctx, true)
	if err != nil {
		return view, err
	}
	switch {
	case catalogue.Domains != nil:
		view.Domains, view.DomainsFrom = catalogue.Domains, "cloud"
	case len(document.Cloud.Domains) > 0:
		view.Domains, view.DomainsFrom = document.Cloud.Domains, "settings"
	}
	return view, nil
}

// capabilityTable tells for each feature whether the cloud has it and what that
// means for runs.
func capabilityTable(can cloud.Capabilities) []wire.Capability {
	choose := func(has bool, with, without string) string {
		if has {
			return with
		}
		return without
	}
	bulk := can.BulkOperations > 0
	detail := ""
	if bulk {
		detail = fmt.Sprintf("up to %d operations", can.BulkOperations)
		if can.BulkPayload > 0 {
			detail += fmt.Sprintf(" and %d kB at once", can.BulkPayload>>10)
		}
	}
	table := []wire.Capability{
		{Name: "patch", Has: can.Patch, Meaning: choose(can.Patch, "only what changes is sent", "whole resources are sent with PUT; what no rule manages is read first and sent back as it was")},
		{Name: "bulk", Has: bulk, Detail: detail, Meaning: choose(bulk, "many changes go in one request", "each change is a request of its own")},
		{Name: "filter", Has: can.Filter, Meaning: choose(can.Filter, "one account can be looked for, and changes since a time can be read", "every run reads all accounts, and looking for one does, too")},
		{Name: "sort", Has: can.Sort, Meaning: choose(can.Sort && can.Filter, "a delta run reads what changed in the cloud", "every run reads all accounts")},
		{Name: "etag", Has: can.ETag, Meaning: choose(can.ETag, "a change that somebody else made meanwhile is never overwritten", "a change made in the cloud in the same second may be overwritten")},
		{Name: "index paging", Has: can.Index, Detail: fmt.Sprintf("%d on a page", can.MaxResults), Meaning: choose(can.Pages == "index", "lists are read by index", "not used")},
		{Name: "cursor paging", Has: can.Cursor, Detail: choose(can.Cursor, fmt.Sprintf("%d on a page", can.MaxResults), ""), Meaning: choose(can.Cursor, "lists are read by cursor (RFC 9865), which nothing slips through", "not used")},
		{Name: "change password", Has: can.ChangePassword, Meaning: choose(can.ChangePassword, "the cloud takes passwords", "the cloud takes no passwords by SCIM")},
		{Name: "sign-in", Has: len(can.SignIn) > 0, Detail: strings.Join(can.SignIn, ", "), Meaning: "how the service signs in to the cloud"},
	}
	for i, one := range table {
		feature := one.Name
		if feature == "sort" {
			feature = string(settings.FeatureChanges)
		}
		if why := can.Denied[cloud.Feature(feature)]; why != "" {
			table[i].Detail = why
		}
	}
	if can.WholeAttributes {
		table = append(table, wire.Capability{Name: "parts of attributes", Detail: "not used, by the settings", Meaning: "a change sets each attribute as a whole, with what others own in it as it is in the cloud"})
	}
	return table
}

// ForgetForms lets the next run send values again that the cloud has written its own way,
// of one target or, for "", all.
func (e *Setup) ForgetForms(ctx context.Context, by, target string) (wire.ForgottenForms, error) {
	var out wire.ForgottenForms
	return out, e.store.Tx(ctx, func(tx *store.Store) error {
		var err error
		if out.Count, err = tx.Resources.ForgetForms(ctx, target); err != nil {
			return err
		}
		if out.Count == 0 {
			return problem.New(problem.NotFound, "the cloud is not known to write %s its own way ('kambrel cloud show').", cmp.Or(target, "anything"))
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.ForgetForms, By: by, About: about.Thing{Type: about.Cloud}, Note: fmt.Sprintf("%s, %d values", cmp.Or(target, "all"), out.Count)})
	})
}

// ProbeCloud tries the connection to the cloud step by step.
func (e *Setup) ProbeCloud(ctx context.Context) []protocol.Verdict {
	return verdicts(e.cloud.Probe(ctx))
}

func verdicts(steps []cloud.Step) []protocol.Verdict {
	out := []protocol.Verdict{}
	for _, step := range steps {
		out = append(out, protocol.Verdict{Step: step.Name, Outcome: step.Outcome, Detail: step.Detail, Advice: step.Advice})
	}
	return out
}
