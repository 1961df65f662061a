package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/settings"
)

func newCloudHabitsCommand(d *deps) *cobra.Command {
	command := &cobra.Command{
		Use: "habits", Short: "Show what the cloud is known to do otherwise than it says", Args: terminal.NoArguments,
		Long: `Shows what the active settings say of the cloud (cloud.habits). Most habits are found out
while the cloud is used, and need no word: answers in another letter case or order, members
that must be asked for, lists that lag behind, features that are promised and refused. What
'kambrel cloud probe' finds is told with the command that keeps it.`,
		Example: "  kambrel cloud habits\n  kambrel cloud habits set --without bulk --page-size 200",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (settings.CloudHabits, error) {
				active, err := c.Settings(ctx)
				return active.Document.Cloud.Habits, err
			}, printHabits)
		},
	}
	command.AddCommand(newCloudHabitsSetCommand(d))
	return command
}

func newCloudHabitsSetCommand(d *deps) *cobra.Command {
	var pages int
	var paging string
	var without, with []string
	var whole bool
	command := &cobra.Command{
		Use: "set", Short: "Say in the draft what the cloud does otherwise than it says", Args: terminal.NoArguments,
		Long: `Changes what is given, in the draft; it counts once the draft is activated, from the next
request on. What can be done without:

  patch    changes are sent as whole resources (PUT), read just before
  bulk     each change is a request of its own
  filter   all is read, also to find one
  changes  each run reads all of the cloud, instead of what changed there
  etag     what somebody changes there in the same second may be overwritten`,
		Example: `  kambrel cloud habits set --without bulk,changes
  kambrel cloud habits set --page-size 100 --paging index
  kambrel cloud habits set --whole-attributes
  kambrel cloud habits set --with bulk --page-size 0`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			given := cmd.Flags().Changed
			var edited settings.CloudHabits
			if err := d.editDraft(cmd, func(document *settings.Document) error {
				h := &document.Cloud.Habits
				if given("page-size") {
					h.PageSize = pages
				}
				if given("paging") {
					if h.Paging = settings.Paging(paging); paging == "any" {
						h.Paging = ""
					}
				}
				if given("whole-attributes") {
					h.WholeAttributes = whole
				}
				h.Without = slices.DeleteFunc(slices.Clone(h.Without), func(f settings.CloudFeature) bool { return slices.Contains(with, string(f)) })
				for _, name := range without {
					if feature := settings.CloudFeature(name); !slices.Contains(h.Without, feature) {
						h.Without = append(h.Without, feature)
					}
				}
				edited = *h
				return nil
			}); err != nil || d.output != "table" {
				return err
			}
			return printHabits(cmd.OutOrStdout(), edited)
		},
	}
	flags := command.Flags()
	flags.IntVar(&pages, "page-size", 0, "the most resources to ask for at once; 0 for what the cloud says")
	flags.StringVar(&paging, "paging", "", "how lists are read: index, cursor, or any for what the cloud offers")
	flags.StringSliceVar(&without, "without", nil, "what is promised and not to be used, beside what is named already: patch, bulk, filter, changes, etag")
	flags.StringSliceVar(&with, "with", nil, "what is to be used again")
	flags.BoolVar(&whole, "whole-attributes", false, "changes set attributes as a whole, never a part of one")
	return command
}

func printHabits(w io.Writer, h settings.CloudHabits) error {
	var said []string
	if h.PageSize > 0 {
		said = append(said, fmt.Sprintf("%d resources are asked for at once at most.", h.PageSize))
	}
	if h.Paging != "" {
		said = append(said, fmt.Sprintf("Lists are read by %s.", h.Paging))
	}
	for _, feature := range h.Without {
		said = append(said, fmt.Sprintf("%s is not used, although it is promised.", feature))
	}
	if h.WholeAttributes {
		said = append(said, "Changes set attributes as a whole, never a part of one.")
	}
	if len(said) == 0 {
		said = []string{"Nothing is said of the cloud: it is used as it says of itself, and as it is found to be."}
	}
	_, err := fmt.Fprintln(w, strings.Join(said, "\n"))
	return err
}
