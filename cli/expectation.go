package cli

import (
	"fmt"
	"io"
	"strconv"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
)

func newExpectationCommand(d *deps) *cobra.Command {
	command := &cobra.Command{
		Use: "expectation", Short: "Say what must hold of somebody before other settings become active",
		Long: `An expectation says of one entry that it takes part or stays out, and what some of its
attributes become. Expectations are a part of the settings (expect), and each activation holds
them against what the new settings would do: where one does not hold, nothing is activated.`,
	}
	command.AddCommand(newExpectationListCommand(d), newExpectationAddCommand(d), newExpectationRemoveCommand(d))
	return command
}

func newExpectationListCommand(d *deps) *cobra.Command {
	var active bool
	command := &cobra.Command{
		Use: "list", Short: "Show what is expected, and whether the draft keeps to it", Args: terminal.NoArguments,
		Long: `Decides about each as the next run would by the draft, or by the active settings where there is
no draft, from what was read of the directories last. Exit status: 0 all holds, 2 something
does not.`,
		Example: "  kambrel expectation list\n  kambrel expectation list --active",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			out, err := c.Expectations(cmd.Context(), !active)
			if err != nil {
				return err
			}
			if err := d.print(cmd.OutOrStdout(), out, func(w io.Writer) error { return printExpectations(w, out, false) }); err != nil {
				return err
			}
			if out.Failing > 0 {
				return statusError(statusProblems)
			}
			return nil
		},
	}
	command.Flags().BoolVar(&active, "active", false, "by the active settings, also where there is a draft")
	return command
}

func printExpectations(w io.Writer, out wire.Expectations, onlyBroken bool) error {
	if len(out.Items) == 0 {
		_, err := fmt.Fprintln(w, "Nothing is expected of anybody yet: 'kambrel expectation add TEXT' keeps how somebody is.")
		return err
	}
	for i, item := range out.Items {
		mark := "BROKEN"
		if item.Holds {
			if mark = "holds "; onlyBroken {
				continue
			}
		}
		fmt.Fprintf(w, "%3d  %s  %s: %s\n", i+1, mark, item.Expectation.Called(), item.Said)
		if item.Holds {
			continue
		}
		if item.Expectation.Note != "" {
			fmt.Fprintf(w, "             it must hold since: %s\n", item.Expectation.Note)
		}
		for _, u := range item.Unmet {
			printUnmet(w, "             ", u)
		}
	}
	for _, name := range out.NotRead {
		fmt.Fprintf(w, "%s was not read yet: what hangs on it is empty here. 'kambrel impact' reads it.\n", name)
	}
	_, err := fmt.Fprintf(w, "%d of %s held, %d broken.\n", out.Holding, plural(len(out.Items), "expectation"), out.Failing)
	return err
}

func printUnmet(w io.Writer, indent string, u wire.Unmet) {
	fmt.Fprintf(w, "%s%s: expected %s, got %s\n", indent, u.What, u.Expected, u.Got)
	if u.Why != "" {
		fmt.Fprintf(w, "%s  %s\n", indent, u.Why)
	}
}

func newExpectationAddCommand(d *deps) *cobra.Command {
	var values []string
	var note string
	command := &cobra.Command{
		Use: "add TEXT", Short: "Expect in the draft that somebody stays as now", Args: cobra.ExactArgs(1),
		Long: `Keeps whether the entry takes part by the active settings, and the values of the attributes
named. TEXT is an id, a distinguished name, a login or an address; what is kept is the id, so
that a rename or a move does not lose it.`,
		Example: "  kambrel expectation add ada.brekke@halvard.example --note 'the captain must not lose her account'\n  kambrel expectation add ada.brekke@halvard.example --value userName --value title",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			draft, err := c.Expect(cmd.Context(), wire.NewExpectation{Version: -1, Entry: args[0], Values: values, Note: note})
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), draft, func(w io.Writer) error {
				one := draft.Document.Expect[len(draft.Document.Expect)-1]
				_, err := fmt.Fprintf(w, "The draft expects of %s: %s.\nIt counts once the draft is active: 'kambrel settings activate'.\n", one.Called(), one.Said())
				return err
			})
		},
	}
	command.Flags().StringArrayVar(&values, "value", nil, "an attribute of the resource whose value stays too, as title; may be repeated")
	command.Flags().StringVar(&note, "note", "", "why it must hold, for whoever breaks it")
	return command
}

func newExpectationRemoveCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "remove NUMBER", Short: "Take an expectation out of the draft", Args: cobra.ExactArgs(1),
		Long:    "Numbers are those of 'kambrel expectation list'.",
		Example: "  kambrel expectation remove 2",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			number, err := strconv.Atoi(args[0])
			if err != nil {
				return problem.New(problem.BadInput, "%q is no number of 'kambrel expectation list'.", args[0])
			}
			var gone settings.Expectation
			draft, err := c.EditDraft(cmd.Context(), func(document *settings.Document) error {
				if number < 1 || number > len(document.Expect) {
					return problem.New(problem.BadInput, "there are %s; %d is none of them.", plural(len(document.Expect), "expectation"), number)
				}
				gone = document.Expect[number-1]
				document.Expect = append(document.Expect[:number-1:number-1], document.Expect[number:]...)
				return nil
			})
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), draft, func(w io.Writer) error {
				_, err := fmt.Fprintf(w, "The draft expects of %s no longer: %s.\n", gone.Called(), gone.Said())
				return err
			})
		},
	}
}

// expectationsHold ends an activation before anything is rehearsed where an expectation does not
// hold, unless that was passed over.
func expectationsHold(cmd *cobra.Command, c *client.Client, document settings.Document, although bool) error {
	if len(document.Expect) == 0 {
		return nil
	}
	out, err := c.Expectations(cmd.Context(), true)
	if err != nil || out.Failing == 0 {
		return err
	}
	if err := printExpectations(cmd.ErrOrStderr(), out, true); err != nil || although {
		return err
	}
	return problem.New(problem.ExpectationsNotMet, "nothing was activated; correct the draft, or the expectation where it is out of date ('kambrel expectation remove'). --although activates it all the same.")
}
