package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
)

func number(id int64) string { return strconv.FormatInt(id, 10) }

// Directories lists directories.
func (c *Client) Directories(ctx context.Context) (out []wire.ConnectedDirectory, err error) {
	return out, c.do(ctx, http.MethodGet, "/directories", nil, nil, &out)
}

// Directory shows one directory.
func (c *Client) Directory(ctx context.Context, name string) (out wire.ConnectedDirectory, err error) {
	return out, c.do(ctx, http.MethodGet, "/directories/"+url.PathEscape(name), nil, nil, &out)
}

// AddDirectory adds a directory to the draft.
func (c *Client) AddDirectory(ctx context.Context, in wire.NewDirectory) (out wire.Draft, err error) {
	return out, c.do(ctx, http.MethodPost, "/directories", nil, in, &out)
}

// ProbeDirectory has an agent try the connection to a directory.
// agent is the name or id of the one that is to do it, "" for any.
func (c *Client) ProbeDirectory(ctx context.Context, name, agent string, features []string) (out wire.Probe, err error) {
	query := url.Values{"features": features}
	if agent != "" {
		query.Set("agent", agent)
	}
	return out, c.do(ctx, http.MethodPost, "/directories/"+url.PathEscape(name)+"/probe", query, nil, &out)
}

// Rights is the text of rights for a directory's owner.
func (c *Client) Rights(ctx context.Context, name, account string, features []string) (out wire.Rights, err error) {
	return out, c.do(ctx, http.MethodGet, "/directories/"+url.PathEscape(name)+"/rights", url.Values{"account": {account}, "features": features}, nil, &out)
}

// RemovalPreview tells what would go with a directory.
func (c *Client) RemovalPreview(ctx context.Context, name string) (out wire.RemovalPreview, err error) {
	return out, c.do(ctx, http.MethodGet, "/directories/"+url.PathEscape(name)+"/removal", nil, nil, &out)
}

// AcceptAbsence says that an attribute which cannot be read any more was taken from
// everybody.
func (c *Client) AcceptAbsence(ctx context.Context, name, attribute string) (out wire.Run, err error) {
	return out, c.do(ctx, http.MethodPost, "/directories/"+url.PathEscape(name)+"/absent", nil, wire.AcceptAbsence{Attribute: attribute}, &out)
}

// RemoveDirectory takes a directory away; confirm is its name, typed.
func (c *Client) RemoveDirectory(ctx context.Context, name, confirm string) error {
	return c.do(ctx, http.MethodPost, "/directories/"+url.PathEscape(name)+"/removal", nil, wire.RemoveDirectory{Confirm: confirm}, nil)
}

// Removals lists directories that can be brought back.
func (c *Client) Removals(ctx context.Context) (out []wire.Removal, err error) {
	return out, c.do(ctx, http.MethodGet, "/removals", nil, nil, &out)
}

// BringBack brings a directory back with its links.
func (c *Client) BringBack(ctx context.Context, id int64) (out wire.BroughtBack, err error) {
	return out, c.do(ctx, http.MethodPost, "/removals/"+number(id)+"/undo", nil, nil, &out)
}

// Containers is the tree of a directory with the marks of the draft.
func (c *Client) Containers(ctx context.Context, name string) (out wire.ContainerTree, err error) {
	return out, c.do(ctx, http.MethodGet, "/directories/"+url.PathEscape(name)+"/containers", nil, nil, &out)
}

// PreviewScope counts who would take part.
func (c *Client) PreviewScope(ctx context.Context, in wire.ScopePreview) (out wire.ScopeCounts, err error) {
	return out, c.do(ctx, http.MethodPost, "/scope/preview", nil, in, &out)
}

// CheckFilter reads a filter into a tree.
func (c *Client) CheckFilter(ctx context.Context, text string) (out wire.CheckedFilter, err error) {
	return out, c.do(ctx, http.MethodPost, "/filters/check", nil, wire.CheckFilter{Text: text}, &out)
}

// Cloud tells what the cloud can do.
func (c *Client) Cloud(ctx context.Context) (out wire.CloudView, err error) {
	return out, c.do(ctx, http.MethodGet, "/cloud", nil, nil, &out)
}

// ForgetForms lets the next run send values again that the cloud writes its own way, of a
// target or, for "", all.
func (c *Client) ForgetForms(ctx context.Context, target string) (out wire.ForgottenForms, err error) {
	query := url.Values{}
	if target != "" {
		query.Set("target", target)
	}
	return out, c.do(ctx, http.MethodDelete, "/cloud/forms", query, nil, &out)
}

// ProbeCloud tries the connection to the cloud.
func (c *Client) ProbeCloud(ctx context.Context) (out []orders.Verdict, err error) {
	return out, c.do(ctx, http.MethodPost, "/cloud/probe", nil, nil, &out)
}

// CheckSettings lists what is wrong or doubtful with a settings file.
func (c *Client) CheckSettings(ctx context.Context, yaml string) (out wire.Checked, err error) {
	return out, c.do(ctx, http.MethodPost, "/settings/check", nil, map[string]string{"yaml": yaml}, &out)
}

// Draft shows the draft of the settings.
func (c *Client) Draft(ctx context.Context) (out wire.Draft, err error) {
	return out, c.do(ctx, http.MethodGet, "/settings/draft", nil, nil, &out)
}

// SaveDraft saves the draft.
func (c *Client) SaveDraft(ctx context.Context, in wire.SaveDraft) (out wire.Draft, err error) {
	return out, c.do(ctx, http.MethodPut, "/settings/draft", nil, in, &out)
}

// EditDraft reads the draft, lets edit change it, and saves it.
func (c *Client) EditDraft(ctx context.Context, edit func(*settings.Document) error) (wire.Draft, error) {
	draft, err := c.Draft(ctx)
	if err != nil {
		return draft, err
	}
	if err := edit(&draft.Document); err != nil {
		return draft, err
	}
	return c.SaveDraft(ctx, wire.SaveDraft{Version: draft.Version, Document: &draft.Document})
}

// DiscardDraft discards the draft.
func (c *Client) DiscardDraft(ctx context.Context) error {
	return c.do(ctx, http.MethodDelete, "/settings/draft", nil, nil, nil)
}

// Expectations tells what the active settings expect, or the draft, and whether it holds.
func (c *Client) Expectations(ctx context.Context, draft bool) (out wire.Expectations, err error) {
	query := url.Values{}
	if draft {
		query.Set("draft", "true")
	}
	return out, c.do(ctx, http.MethodGet, "/settings/expectations", query, nil, &out)
}

// Expect has the draft expect that an entry stays as it is.
func (c *Client) Expect(ctx context.Context, in wire.NewExpectation) (out wire.Draft, err error) {
	return out, c.do(ctx, http.MethodPost, "/settings/draft/expectations", nil, in, &out)
}

// ActivateDraft makes the draft the active settings.
func (c *Client) ActivateDraft(ctx context.Context, in wire.ActivateDraft) (out wire.Settings, err error) {
	return out, c.do(ctx, http.MethodPost, "/settings/draft/activate", nil, in, &out)
}

// Impact rehearses the draft.
func (c *Client) Impact(ctx context.Context) (out wire.Run, err error) {
	return out, c.do(ctx, http.MethodPost, "/settings/draft/impact", nil, nil, &out)
}

// ReadDirectories reads the directories of the draft, without planning.
func (c *Client) ReadDirectories(ctx context.Context) (out wire.Run, err error) {
	return out, c.do(ctx, http.MethodPost, "/settings/draft/read", nil, nil, &out)
}

// Cancel ends a rehearsal, a survey or a reading.
func (c *Client) Cancel(ctx context.Context, id int64) error {
	return c.do(ctx, http.MethodPost, "/runs/"+number(id)+"/cancel", nil, nil, nil)
}

// Revisions lists revisions, the newest first.
func (c *Client) Revisions(ctx context.Context, query url.Values) (out wire.Page[wire.RevisionLine], err error) {
	return out, c.do(ctx, http.MethodGet, "/settings/revisions", query, nil, &out)
}

// Revision returns one revision.
func (c *Client) Revision(ctx context.Context, revision int) (out wire.Settings, err error) {
	return out, c.do(ctx, http.MethodGet, "/settings/revisions/"+strconv.Itoa(revision), nil, nil, &out)
}

// ReturnTo makes the draft what a revision was; version is the draft's that it
// replaces, 0 for none.
func (c *Client) ReturnTo(ctx context.Context, revision, version int) (out wire.Draft, err error) {
	return out, c.do(ctx, http.MethodPost, "/settings/revisions/"+strconv.Itoa(revision)+"/draft", nil, map[string]int{"version": version}, &out)
}

// Compare tells in what two documents differ.
func (c *Client) Compare(ctx context.Context, from, to string) (out wire.Comparison, err error) {
	return out, c.do(ctx, http.MethodGet, "/settings/diff", url.Values{"from": {from}, "to": {to}}, nil, &out)
}

// StartSurvey starts a survey.
func (c *Client) StartSurvey(ctx context.Context, in wire.NewSurvey) (out wire.Run, err error) {
	return out, c.do(ctx, http.MethodPost, "/surveys", nil, in, &out)
}

// Survey shows a survey; 0 is the newest.
func (c *Client) Survey(ctx context.Context, id int64) (out wire.Survey, err error) {
	return out, c.do(ctx, http.MethodGet, "/surveys/"+number(id), nil, nil, &out)
}

// Findings lists findings of a survey.
func (c *Client) Findings(ctx context.Context, id int64, query url.Values) (out wire.Page[wire.Finding], err error) {
	return out, c.do(ctx, http.MethodGet, "/surveys/"+number(id)+"/findings", query, nil, &out)
}

// FindingsCSV copies the findings of a survey as CSV.
func (c *Client) FindingsCSV(ctx context.Context, id int64, query url.Values, to io.Writer) error {
	return c.copyTo(ctx, "/surveys/"+number(id)+"/findings.csv", query, to)
}

// ChangesCSV copies the changes and problems of a run as CSV.
func (c *Client) ChangesCSV(ctx context.Context, id int64, query url.Values, to io.Writer) error {
	return c.copyTo(ctx, "/runs/"+number(id)+"/changes.csv", query, to)
}

// Report tells what came of a time.
func (c *Client) Report(ctx context.Context, query url.Values) (out wire.Report, err error) {
	return out, c.do(ctx, http.MethodGet, "/report", query, nil, &out)
}

// ReportCSV copies everything that a report names.
func (c *Client) ReportCSV(ctx context.Context, query url.Values, to io.Writer) error {
	return c.copyTo(ctx, "/report.csv", query, to)
}

// ActsCSV copies acts as CSV.
func (c *Client) ActsCSV(ctx context.Context, query url.Values, to io.Writer) error {
	return c.copyTo(ctx, "/acts.csv", query, to)
}

// copyTo copies an answer that is a file.
func (c *Client) copyTo(ctx context.Context, path string, query url.Values, to io.Writer) error {
	response, err := c.send(ctx, http.MethodGet, path, query, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(to, response.Body)
	return err
}

// ChooseRepairs makes repairs of findings, without writing.
func (c *Client) ChooseRepairs(ctx context.Context, id int64, in wire.ChooseRepairs) (out wire.ChosenRepairs, err error) {
	return out, c.do(ctx, http.MethodPost, "/surveys/"+number(id)+"/repairs", nil, in, &out)
}

// Repair writes values to directories.
func (c *Client) Repair(ctx context.Context, in wire.NewRepair) (out wire.Repair, err error) {
	return out, c.do(ctx, http.MethodPost, "/repairs", nil, in, &out)
}

// Repairs lists repairs, the newest first.
func (c *Client) Repairs(ctx context.Context) (out []wire.Repair, err error) {
	return out, c.do(ctx, http.MethodGet, "/repairs", nil, nil, &out)
}

// RepairOf shows one repair.
func (c *Client) RepairOf(ctx context.Context, id int64) (out wire.Repair, err error) {
	return out, c.do(ctx, http.MethodGet, "/repairs/"+number(id), nil, nil, &out)
}

// UndoRepair writes back what a repair has replaced.
func (c *Client) UndoRepair(ctx context.Context, id int64) (out wire.Repair, err error) {
	return out, c.do(ctx, http.MethodPost, "/repairs/"+number(id)+"/undo", nil, nil, &out)
}

// WaitRepair follows a repair until every value has its result.
func (c *Client) WaitRepair(ctx context.Context, id int64, each func(wire.Repair)) (wire.Repair, error) {
	var repair wire.Repair
	err := c.events(ctx, func(event wire.Event) bool { return event.Kind == "repair" && event.ID == id }, func(ctx context.Context) (bool, error) {
		var err error
		if repair, err = c.RepairOf(ctx, id); err != nil {
			return false, err
		}
		if each != nil {
			each(repair)
		}
		return repair.State != "running", nil
	})
	return repair, err
}

// CloudConnection is how the cloud is reached.
func (c *Client) CloudConnection(ctx context.Context) (out wire.CloudConnection, err error) {
	return out, c.do(ctx, http.MethodGet, "/cloud/connection", nil, nil, &out)
}

// TryCloud tries a URL and a token for the cloud; nothing is kept.
func (c *Client) TryCloud(ctx context.Context, reach wire.CloudReach) (out wire.CloudTried, err error) {
	return out, c.do(ctx, http.MethodPost, "/cloud/try", nil, reach, &out)
}

// ConnectCloud has the cloud reached by a URL and a token from now on.
func (c *Client) ConnectCloud(ctx context.Context, reach wire.CloudReach) (out wire.CloudTried, err error) {
	return out, c.do(ctx, http.MethodPut, "/cloud/connection", nil, reach, &out)
}

// DisconnectCloud has it reached as the service's configuration says.
func (c *Client) DisconnectCloud(ctx context.Context) error {
	return c.do(ctx, http.MethodDelete, "/cloud/connection", nil, nil, nil)
}
