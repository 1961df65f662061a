// Package cli is the command line: nouns and verbs over the client, and the
// commands that start a service or an agent. Commands write only to
// their own writers and end with a status that scripts can use: 0 done, 1
// failed, 2 done with problems.
package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/version"
)

// deps is what commands share.
type deps struct {
	service, token, output string
}

// statusError ends the program with a status; its text was shown already.
type statusError = terminal.Status

const (
	statusFailed   = 1
	statusProblems = 2
)

// Execute runs the program and returns its exit status.
func Execute() int { return terminal.Execute(NewRoot()) }

// NewRoot builds the whole command line.
func NewRoot() *cobra.Command {
	d := &deps{}
	root := &cobra.Command{
		Use:   "kambrel",
		Short: "Keeps a cloud directory in step with on-premises directories",
		Long: `Kambrel keeps a cloud directory in step with on-premises directories.

Most commands ask a service. They find it, in this order, by --service and
--token, by KAMBREL_SERVICE and KAMBREL_TOKEN, and by the last of two acts: what
'kambrel login' has kept, or the start of a demo that still runs, beneath the
checkout that it was built in. A token goes to its own service only.

Exit status: 0 done, 1 failed, 2 done with problems.`,
		Version: version.Number, SilenceUsage: true, SilenceErrors: true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			if !slices.Contains([]string{"table", "json", "yaml"}, d.output) {
				return fmt.Errorf("--output %q: use table, json or yaml", d.output)
			}
			return nil
		},
	}
	root.PersistentFlags().StringVar(&d.service, "service", "", "URL of the service, or several with commas between, of which one answers")
	root.PersistentFlags().StringVar(&d.token, "token", "", "token for the service")
	root.PersistentFlags().StringVarP(&d.output, "output", "o", "table", "how to print: table, json or yaml")
	root.AddGroup(&cobra.Group{ID: "work", Title: "Sync:"}, &cobra.Group{ID: "choose", Title: "Choose and clean up:"}, &cobra.Group{ID: "match", Title: "Match:"}, &cobra.Group{ID: "look", Title: "Find and understand:"}, &cobra.Group{ID: "run", Title: "Set up and run:"})
	add := func(group string, commands ...*cobra.Command) {
		for _, command := range commands {
			command.GroupID = group
			root.AddCommand(command)
		}
	}
	add("work", newSyncCommand(d), newRehearseCommand(d), newRunsCommand(d), newKeptCommand(d), newPinsCommand(d), newLeaversCommand(d), newTrialCommand(d), newPauseCommand(d), newResumeCommand(d))
	add("choose", newScopeCommand(d), newScheduleCommand(d), newGuardCommand(d), newSettingsCommand(d), newExpectationCommand(d), newRulesCommand(d), newFormulaCommand(d), newImpactCommand(d), newSurveyCommand(d))
	add("match", append(newDecideCommands(d), newForecastCommand(d), newCompareCommand(d))...)
	add("look", newFindCommand(d), newShowCommand(d), newHistoryCommand(d), newWhyCommand(d), newExplainCommand(d), newHealthCommand(d), newPasswordsCommand(d), newCloudGroupsCommand(d), newProblemsCommand(d), newActsCommand(d), newNoticesCommand(d), newReportCommand(d))
	add("run", newFirstDayCommand(d), newLoginCommand(d), newLogoutCommand(d), newOperatorCommand(d), newSessionCommand(d), newTokenCommand(d), newDirectoryCommand(d), newAgentCommand(d), newCloudCommand(d), newDomainCommand(d), newServeCommand(), newDoctorCommand(d), newBackupCommand(d), newRestoreCommand(d), newOpenAPICommand())
	return root
}

// client connects to the service the user means.
func (d *deps) client() (*client.Client, error) {
	p, err := findProfile(d.service, d.token)
	if err != nil {
		return nil, err
	}
	return p.client()
}

// ask gets something from the service and prints it; table writes it for people.
func ask[T any](d *deps, cmd *cobra.Command, get func(context.Context, *client.Client) (T, error), table func(io.Writer, T) error) error {
	c, err := d.client()
	if err != nil {
		return err
	}
	value, err := get(cmd.Context(), c)
	if err != nil {
		return err
	}
	return d.print(cmd.OutOrStdout(), value, func(w io.Writer) error { return table(w, value) })
}

// print writes a value as asked; table writes it for people.
func (d *deps) print(to io.Writer, value any, table func(io.Writer) error) error {
	if d.output == "table" {
		return table(clean(to))
	}
	text, err := json.MarshalIndent(value, "", "  ")
	if err != nil {
		return err
	}
	if d.output == "yaml" {
		if text, err = yaml.JSONToYAML(text); err != nil {
			return err
		}
		_, err = to.Write(text)
		return err
	}
	_, err = fmt.Fprintln(to, string(text))
	return err
}
