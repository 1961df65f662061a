package settings

import (
	"errors"
	"strings"

	"github.com/goccy/go-yaml"

	"kambrel.example/kambrel/core/problem"
)

// Parse reads a settings file. Every fault that can be found is listed in the
// error, a *problem.Error with code settings-invalid, and then nothing of the
// file may be used.
func Parse(text []byte) (Document, error) {
	var document Document
	document.Users.Leavers = Suspend
	document.Guard = Guard{Removals: 20, Share: 5}
	document.Schedule = Schedule{Every: "2m"}
	if strings.TrimSpace(string(text)) == "" {
		return Document{}, problem.New(problem.SettingsInvalid, "the file is empty")
	}
	if err := yaml.UnmarshalWithOptions(text, &document, yaml.Strict()); err != nil {
		failure := problem.New(problem.SettingsInvalid, "the YAML cannot be read")
		fault := problem.Fault{Message: err.Error()}
		var located yaml.Error
		if errors.As(err, &located) {
			fault.Message = located.GetMessage()
			if token := located.GetToken(); token != nil && token.Position != nil {
				fault.Line, fault.Column = token.Position.Line, token.Position.Column
			}
		}
		failure.Faults = []problem.Fault{fault}
		return Document{}, failure
	}
	if faults := document.Validate(); len(faults) > 0 {
		failure := problem.New(problem.SettingsInvalid, "")
		failure.Faults = faults
		return Document{}, failure
	}
	return document, nil
}

// YAML writes the document as a settings file that Parse reads back.
func (d *Document) YAML() ([]byte, error) {
	return yaml.MarshalWithOptions(d, yaml.Indent(2), yaml.IndentSequence(true))
}
