package api

import (
	"bytes"
	"context"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/core/settings"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/setup"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

// NamePath names a directory.
type NamePath struct {
	Name string `path:"name" maxLength:"63"`
}

type directoryEdit struct {
	NamePath
	Body struct {
		Version    int                  `json:"version" minimum:"0" doc:"The version of the draft that was edited"`
		Base       *string              `json:"base,omitempty"`
		Containers *settings.Containers `json:"containers,omitempty"`
		Features   []entry.Feature      `json:"features,omitempty" enum:"repair,reset-passwords,change-passwords,unlock,password-digests,cloud-groups"`
		SetFeature bool                 `json:"setFeatures,omitempty" doc:"Whether features are given, since none may be meant"`
	}
}

func (s *Server) directoryRoutes() {
	huma.Register(s.api, operation("GET", "/directories", "list-directories", "Directories of the draft and of the active settings", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[[]wire.ConnectedDirectory], error) {
		return answer(s.service.Setup.Directories(ctx))
	})
	huma.Register(s.api, operation("POST", "/directories", "add-directory", "Add a directory to the draft", wire.Administrator), func(ctx context.Context, in *body[wire.NewDirectory]) (*body[wire.Draft], error) {
		return answer(s.service.Setup.AddDirectory(ctx, who(ctx).Name, in.Body))
	})
	huma.Register(s.api, operation("GET", "/directories/{name}", "get-directory", "One directory", wire.Viewer), func(ctx context.Context, in *NamePath) (*body[wire.ConnectedDirectory], error) {
		return answer(s.service.Setup.DirectoryOf(ctx, in.Name))
	})
	huma.Register(s.api, operation("PATCH", "/directories/{name}", "edit-directory", "Change a directory in the draft", wire.Administrator), func(ctx context.Context, in *directoryEdit) (*body[wire.Draft], error) {
		return answer(s.service.Setup.EditDraft(ctx, who(ctx).Name, in.Body.Version, func(document *settings.Document) error {
			for i := range document.Directories {
				if d := &document.Directories[i]; d.Name == in.Name {
					if in.Body.Base != nil {
						d.Base = *in.Body.Base
					}
					if in.Body.Containers != nil {
						d.Containers = *in.Body.Containers
					}
					if in.Body.SetFeature {
						d.Features = in.Body.Features
						document.AddOrigin()
					}
					return nil
				}
			}
			return problem.New(problem.NotFound, "the draft names no directory %q.", in.Name)
		}))
	})
	huma.Register(s.api, operation("POST", "/directories/{name}/probe", "probe-directory", "Have an agent try the connection, step by step", wire.OperatorRole), func(ctx context.Context, in *struct {
		NamePath
		Agent    string   `query:"agent" maxLength:"200" doc:"The name or id of the agent that is to do it; any that is well otherwise"`
		Features []string `query:"features" doc:"Features to try beside those that are switched on"`
	}) (*body[wire.Probe], error) {
		return answer(s.service.Setup.Probe(ctx, in.Name, in.Agent, featuresOf(in.Features)))
	})
	huma.Register(s.api, operation("GET", "/directories/{name}/rights", "directory-rights", "The rights that the agent's account needs, as text for the directory's owner", wire.Viewer), func(ctx context.Context, in *struct {
		NamePath
		Account  string   `query:"account" maxLength:"500" doc:"The account's SID or distinguished name"`
		Features []string `query:"features" doc:"Features beside those that are switched on"`
	}) (*body[wire.Rights], error) {
		text, err := s.service.Setup.Rights(ctx, in.Name, in.Account, featuresOf(in.Features))
		return answer(wire.Rights{Text: text}, err)
	})
	huma.Register(s.api, operation("GET", "/directories/{name}/removal", "preview-removal", "What would go with a directory", wire.Viewer), func(ctx context.Context, in *NamePath) (*body[wire.RemovalPreview], error) {
		return answer(s.service.Setup.RemovalOf(ctx, in.Name))
	})
	huma.Register(s.api, operation("POST", "/directories/{name}/absent", "accept-absence", "Say that an attribute which cannot be read any more was taken from everybody", wire.Administrator), func(ctx context.Context, in *struct {
		NamePath
		Body wire.AcceptAbsence
	}) (*body[wire.Run], error) {
		id, err := s.service.Jobs.AcceptAbsence(ctx, in.Name, in.Body.Attribute, who(ctx).Name)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.run(ctx, id))
	})
	huma.Register(s.api, operation("POST", "/directories/{name}/removal", "remove-directory", "Take a directory away; its links are put aside", wire.Administrator), func(ctx context.Context, in *struct {
		NamePath
		Body wire.RemoveDirectory
	}) (*struct{}, error) {
		return nil, orNil(s.service.Setup.RemoveDirectory(ctx, who(ctx).Name, in.Name, in.Body.Confirm))
	})
	huma.Register(s.api, operation("GET", "/removals", "list-removals", "Directories that can be brought back", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[[]wire.Removal], error) {
		return answer(s.service.Setup.Removals(ctx))
	})
	huma.Register(s.api, operation("POST", "/removals/{id}/undo", "bring-back", "Bring a directory back with its links", wire.Administrator), func(ctx context.Context, in *RunPath) (*body[wire.BroughtBack], error) {
		return answer(s.service.Setup.BringBack(ctx, who(ctx).Name, in.ID))
	})
	huma.Register(s.api, operation("GET", "/directories/{name}/containers", "list-containers", "The tree of containers with counts and marks", wire.Viewer), func(ctx context.Context, in *struct {
		NamePath
		Active bool `query:"active" doc:"With the marks of the active settings instead of the draft"`
	}) (*body[wire.ContainerTree], error) {
		document, err := s.service.Setup.Document(ctx, !in.Active)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.service.Setup.Containers(ctx, document, in.Name))
	})
}

func featuresOf(names []string) []entry.Feature {
	features := make([]entry.Feature, len(names))
	for i, name := range names {
		features[i] = entry.Feature(name)
	}
	return features
}

func (s *Server) scopeRoutes() {
	huma.Register(s.api, operation("POST", "/scope/preview", "preview-scope", "Who would take part, with samples and reasons", wire.Viewer), func(ctx context.Context, in *body[wire.ScopePreview]) (*body[wire.ScopeCounts], error) {
		document := in.Body.Document
		if document == nil {
			current, err := s.service.Setup.Document(ctx, true)
			if err != nil {
				return nil, fail(err)
			}
			document = &current
		}
		return answer(s.service.Setup.PreviewScope(ctx, who(ctx).Name, *document, in.Body))
	})
	huma.Register(s.api, operation("POST", "/filters/check", "check-filter", "Read a filter into a tree, or tell what is wrong with it", wire.Viewer), func(_ context.Context, in *body[wire.CheckFilter]) (*body[wire.CheckedFilter], error) {
		return answer(setup.CheckFilter(in.Body.Text), nil)
	})
}

func (s *Server) cloudRoutes() {
	huma.Register(s.api, operation("GET", "/cloud", "get-cloud", "What the cloud can do and what it holds", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[wire.CloudView], error) {
		return answer(s.service.Setup.Cloud(ctx))
	})
	huma.Register(s.api, operation("DELETE", "/cloud/forms", "forget-forms", "Let the next run send values again that the cloud writes its own way", wire.OperatorRole), func(ctx context.Context, in *struct {
		Target string `query:"target" maxLength:"300" doc:"Of this attribute; of all otherwise"`
	}) (*body[wire.ForgottenForms], error) {
		return answer(s.service.Setup.ForgetForms(ctx, who(ctx).Name, in.Target))
	})
	huma.Register(s.api, operation("POST", "/cloud/probe", "probe-cloud", "Try the connection to the cloud, step by step", wire.OperatorRole), func(ctx context.Context, _ *struct{}) (*body[[]protocol.Verdict], error) {
		return answer(s.service.Setup.ProbeCloud(ctx), nil)
	})
	huma.Register(s.api, operation("GET", "/cloud/connection", "get-cloud-connection", "How the cloud is reached; it is asked nothing", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[wire.CloudConnection], error) {
		return answer(s.service.Setup.Connection(ctx))
	})
	huma.Register(s.api, operation("POST", "/cloud/try", "try-cloud", "Try a URL and a token for the cloud, and whether it is that of the records; nothing is kept", wire.Administrator), func(ctx context.Context, in *body[wire.CloudReach]) (*body[wire.CloudTried], error) {
		return answer(s.service.Setup.TryCloud(ctx, in.Body.URL, secret.Text(in.Body.Token)))
	})
	huma.Register(s.api, operation("PUT", "/cloud/connection", "connect-cloud", "Reach the cloud by a URL and a token from now on", wire.Administrator), func(ctx context.Context, in *body[wire.CloudReach]) (*body[wire.CloudTried], error) {
		return answer(s.service.Setup.ConnectCloud(ctx, who(ctx).Name, in.Body.URL, secret.Text(in.Body.Token)))
	})
	huma.Register(s.api, operation("DELETE", "/cloud/connection", "disconnect-cloud", "Reach the cloud again as the service's configuration says", wire.Administrator), func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		return nil, orNil(s.service.Setup.DisconnectCloud(ctx, who(ctx).Name))
	})
}

type findingsQuery struct {
	ID        int64  `path:"id" minimum:"0" doc:"The survey's run; 0 for the newest"`
	Code      string `query:"code" maxLength:"60"`
	Directory string `query:"directory" maxLength:"63"`
	Text      string `query:"text" maxLength:"200" doc:"Part of a name, a distinguished name or a value"`
	Cursor    string `query:"cursor"`
	Limit     int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// SurveyPath names a survey.
type SurveyPath struct {
	ID int64 `path:"id" minimum:"0" doc:"The survey's run; 0 for the newest"`
}

func (s *Server) surveyRoutes() {
	huma.Register(s.api, operation("POST", "/surveys", "start-survey", "Look for what the cloud would refuse", wire.OperatorRole), func(ctx context.Context, in *body[wire.NewSurvey]) (*body[wire.Run], error) {
		id, err := s.service.Setup.Survey(ctx, who(ctx).Name, in.Body.Draft)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.run(ctx, id))
	})
	huma.Register(s.api, operation("GET", "/surveys/{id}", "get-survey", "A survey with its findings by kind", wire.Viewer), func(ctx context.Context, in *SurveyPath) (*body[wire.Survey], error) {
		return answer(s.service.Surveys.SurveyOf(ctx, in.ID))
	})
	huma.Register(s.api, operation("GET", "/surveys/{id}/findings", "list-findings", "Findings of a survey", wire.Viewer), func(ctx context.Context, in *findingsQuery) (*body[wire.Page[wire.Finding]], error) {
		offset, err := number(in.Cursor)
		if err != nil {
			return nil, fail(err)
		}
		findings, total, err := s.service.Surveys.Findings(ctx, store.FindingQuery{Run: in.ID, Code: in.Code, Directory: in.Directory, Text: in.Text, Offset: int(offset), Limit: in.Limit})
		return answer(pageAt(views.List(findings, views.Finding), total, int(offset)), err)
	})
	huma.Register(s.api, csvOperation("/surveys/{id}/findings.csv", "export-findings", "Findings of a survey as CSV (RFC 4180)", wire.Viewer), func(ctx context.Context, in *findingsQuery) (*csvFile, error) {
		var text bytes.Buffer
		err := s.service.Surveys.FindingsCSV(ctx, store.FindingQuery{Run: in.ID, Code: in.Code, Directory: in.Directory, Text: in.Text}, &text)
		if err != nil {
			return nil, fail(err)
		}
		return &csvFile{csvType, `attachment; filename="survey.csv"`, text.Bytes()}, nil
	})
	huma.Register(s.api, large(operation("POST", "/surveys/{id}/repairs", "choose-repairs", "Make repairs of findings to look at, without writing", wire.OperatorRole)), func(ctx context.Context, in *struct {
		SurveyPath
		Body wire.ChooseRepairs
	}) (*body[wire.ChosenRepairs], error) {
		return answer(s.service.Surveys.ChooseRepairs(ctx, in.ID, in.Body))
	})
	huma.Register(s.api, large(operation("POST", "/repairs", "write-repairs", "Write values to directories, each with its result", wire.Administrator)), func(ctx context.Context, in *body[wire.NewRepair]) (*body[wire.Repair], error) {
		id, err := s.service.Surveys.Repair(ctx, who(ctx).Name, in.Body.Items, 0)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.service.Surveys.RepairOf(ctx, id))
	})
	huma.Register(s.api, operation("GET", "/repairs", "list-repairs", "What was written to directories, the newest first", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[[]wire.Repair], error) {
		repairs, err := s.store.Repairs.List(ctx, 200)
		return answer(views.List(repairs, views.Repair), err)
	})
	huma.Register(s.api, operation("GET", "/repairs/{id}", "get-repair", "One repair with the result of each value", wire.Viewer), func(ctx context.Context, in *RunPath) (*body[wire.Repair], error) {
		return answer(s.service.Surveys.RepairOf(ctx, in.ID))
	})
	huma.Register(s.api, operation("POST", "/repairs/{id}/undo", "undo-repair", "Write back what a repair has replaced", wire.Administrator), func(ctx context.Context, in *RunPath) (*body[wire.Repair], error) {
		id, err := s.service.Surveys.UndoRepair(ctx, who(ctx).Name, in.ID)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.service.Surveys.RepairOf(ctx, id))
	})
}

const csvType = "text/csv; charset=utf-8"

// csvOperation is an operation whose answer is a CSV file.
func csvOperation(path, id, summary string, least wire.Role) huma.Operation {
	op := operation("GET", path, id, summary, least)
	op.Responses = map[string]*huma.Response{"200": {Description: "A file", Content: map[string]*huma.MediaType{"text/csv": {Schema: &huma.Schema{Type: "string"}}}}}
	return op
}

// csvFile is an answer that is a file.
type csvFile struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}
