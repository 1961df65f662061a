package setup

import (
	"context"
	"fmt"
	"strings"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/entry"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
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
	can, err := e.cloud.Discover(ctx)
	if err != nil {
		return view, err
	}
	view.Capabilities = capabilityTable(can)
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
	return []wire.Capability{
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
}

// ProbeCloud tries the connection to the cloud step by step.
func (e *Setup) ProbeCloud(ctx context.Context) []protocol.Verdict {
	verdicts := []protocol.Verdict{}
	for _, step := range e.cloud.Probe(ctx) {
		verdicts = append(verdicts, protocol.Verdict{Step: step.Name, Outcome: step.Outcome, Detail: step.Detail, Advice: step.Advice})
	}
	return verdicts
}
