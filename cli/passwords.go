package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/protocol/wire"
)

func newPasswordsCommand(d *deps) *cobra.Command {
	command := &cobra.Command{
		Use: "passwords", Short: "How passwords come from the cloud into directories",
		Long: `Who resets or changes a password in the cloud, or unlocks an account there, is told
within a second whether the directory did it. The password travels sealed for the
agents of the directory; Kambrel's service cannot read it.`,
	}
	command.AddCommand(newPasswordsStateCommand(d), newPasswordsEventsCommand(d), newPasswordsTryCommand(d), newPasswordsDigestsCommand(d))
	return command
}

func newPasswordsStateCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "state", Short: "Show the way step by step, and what is open", Args: terminal.NoArguments,
		Long: `Shows each step of the way from the cloud to the directories: the stream of events,
the service that listens to it, each agent, and the rights of its account as the last
probe has found them. The exit status is 2 when something is not open.`,
		Example: "  kambrel passwords state\n  kambrel passwords state -o json | jq .state",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			state, err := c.PasswordsState(cmd.Context())
			if err != nil {
				return err
			}
			if err := d.print(cmd.OutOrStdout(), state, func(w io.Writer) error { return printPasswordsState(w, state) }); err != nil {
				return err
			}
			if state.State == "closed" || state.State == "partly" {
				return statusError(statusProblems)
			}
			return nil
		},
	}
}

// marks are the outcomes of steps in a column.
var marks = map[string]string{"good": "ok", "doubtful": "?", "bad": "NO", "skipped": "-"}

func printPasswordsState(w io.Writer, s wire.PasswordsState) error {
	fmt.Fprintf(w, "%s: %s\n\n", map[string]string{"off": "Off", "open": "Open", "partly": "Partly open", "closed": "CLOSED"}[s.State], s.Summary)
	printStep(w, "", s.Stream)
	printStep(w, "", s.Service)
	for _, directory := range s.Directories {
		fmt.Fprintf(w, "\n%s: %s\n", directory.Name, features(directory.Features))
		for _, step := range directory.Steps {
			printStep(w, "", step)
		}
	}
	for _, one := range s.Digests {
		fmt.Fprintf(w, "\n%s: password-digests\n", one.Directory)
		printStep(w, "", one.Step)
	}
	if s.State == "off" {
		return nil
	}
	fmt.Fprintf(w, "\nIn the last 24 hours %d done", s.Today.Done)
	if s.Today.Done > 0 {
		fmt.Fprintf(w, " (half within %d ms, 95 of 100 within %d ms)", s.Today.Median, s.Today.Slow)
	}
	_, err := fmt.Fprintf(w, ", %d refused by a directory's policy, %d not done otherwise.\n", s.Today.Policy, s.Today.Refused)
	if s.RefusedAt != nil {
		fmt.Fprintf(w, "Not taken at all: %s so far, the last %s: %s\n", plural(s.Refused, "event"), when(s.RefusedAt), s.RefusedFor)
	}
	return err
}

func features(list []entry.Feature) string {
	names := make([]string, len(list))
	for i, feature := range list {
		names[i] = string(feature)
	}
	return strings.Join(names, ", ")
}

func printStep(w io.Writer, indent string, step wire.PasswordStep) {
	since := ""
	if step.Since != nil {
		since = ", since " + when(step.Since)
		if strings.HasPrefix(step.Name, "right ") {
			since = ", tried " + when(step.Since)
		}
	}
	fmt.Fprintf(w, "%s  %-2s  %-22s  %s%s\n", indent, marks[step.Outcome], step.Name, step.Detail, since)
	if step.Advice != "" && step.Outcome != "good" {
		fmt.Fprintf(w, "%s      %-22s  %s\n", indent, "", step.Advice)
	}
}

func newPasswordsEventsCommand(d *deps) *cobra.Command {
	var limit int
	var directory string
	var failed bool
	command := &cobra.Command{
		Use: "events", Short: "List what was asked about passwords and what became of it, the newest first", Args: terminal.NoArguments,
		Long:    "Lists for whom something was asked, what became of it and why, and how long it took.\nA password is never shown, since Kambrel never has one.",
		Example: "  kambrel passwords events\n  kambrel passwords events --failed --directory halvard\n  kambrel passwords events -o json | jq '.[] | {person, reason}'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.listing(limit)
			if err != nil {
				return err
			}
			query := url.Values{"limit": {strconv.Itoa(limit)}, "failed": {strconv.FormatBool(failed)}}
			if directory != "" {
				query.Set("directory", directory)
			}
			page, err := c.PasswordEvents(cmd.Context(), query)
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error {
				if len(page.Items) == 0 {
					_, err := fmt.Fprintln(w, "None: nothing was asked so far.")
					return err
				}
				t := newTable("RECEIVED", "PERSON", "ACT", "BY", "DIRECTORY", "RESULT", "TOOK", "AGENT")
				for _, e := range page.Items {
					t.add(when(&e.Received), or(e.Person, e.EntryID), string(e.Act), e.By, e.Directory, result(e), tookText(e), or(e.Agent, "-"))
				}
				if err := t.print(w); err != nil {
					return err
				}
				if page.Total > len(page.Items) {
					fmt.Fprintf(w, "\n%d of %d; --limit shows more.\n", len(page.Items), page.Total)
				}
				return nil
			})
		},
	}
	command.Flags().IntVar(&limit, "limit", 50, "how many")
	command.Flags().StringVar(&directory, "directory", "", "of this directory alone")
	command.Flags().BoolVar(&failed, "failed", false, "of what was not done alone")
	return command
}

func result(e wire.PasswordEvent) string {
	if e.Done || e.Reason == "" {
		return e.Text
	}
	return string(e.Reason) + ": " + e.Text
}

func tookText(e wire.PasswordEvent) string {
	if e.Ended == nil {
		return "-"
	}
	if e.InDirectory > 0 {
		return fmt.Sprintf("%d ms (%d in the directory)", e.Millis, e.InDirectory)
	}
	return fmt.Sprintf("%d ms", e.Millis)
}

func newPasswordsDigestsCommand(d *deps) *cobra.Command {
	command := &cobra.Command{
		Use: "digests", Short: "Pause and resume the digests by which people sign in to the cloud with the same password",
		Long: `Where password-digests is switched on for a directory, its agent makes a digest of
each stored password and seals it for the cloud. 'kambrel passwords state' shows how
far that is.`,
	}
	for _, one := range []struct {
		verb, short, said string
		do                func(*client.Client, context.Context, string) (wire.PasswordsState, error)
	}{
		{"pause", "Let no more digests of a directory be made", "Paused. Digests that the cloud has stay as they are; who changes the password meanwhile signs in with the old one there.", (*client.Client).PauseDigests},
		{"resume", "Let digests of a directory be made again", "Digests are made again.", (*client.Client).ResumeDigests},
	} {
		command.AddCommand(&cobra.Command{
			Use: one.verb + " DIRECTORY", Short: one.short, Args: terminal.OneArgument("the directory's name, as in the settings"), Example: "  kambrel passwords digests " + one.verb + " halvard",
			RunE: func(cmd *cobra.Command, args []string) error {
				return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.PasswordsState, error) {
					return one.do(c, ctx, args[0])
				}, func(w io.Writer, _ wire.PasswordsState) error {
					_, err := fmt.Fprintln(w, one.said)
					return err
				})
			},
		})
	}
	return command
}

func newPasswordsTryCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "try PERSON", Short: "Go the whole way for one person without setting anything", Args: terminal.OneArgument("a person: name, login, address or id"),
		Long: `Asks the cloud for an event and waits until it comes back, looks whether the person
is linked, and lets an agent look whether the account is protected or disabled and
whether its own account has the rights. Nothing is set. The exit status is 2 when
something stands in the way.`,
		Example: "  kambrel passwords try ada.brekke@halvard.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			outcome := ""
			if err := ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.PasswordTrial, error) {
				trial, err := c.TryPassword(ctx, args[0])
				outcome = trial.Outcome
				return trial, err
			}, func(w io.Writer, trial wire.PasswordTrial) error {
				fmt.Fprintf(w, "%s, in %s. Nothing was set.\n\n", trial.Person, trial.Directory)
				for _, step := range trial.Steps {
					printStep(w, "", step)
				}
				return nil
			}); err != nil {
				return err
			}
			if outcome == "bad" {
				return statusError(statusProblems)
			}
			return nil
		},
	}
}
