package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/fingerprint"
	"kambrel.example/kambrel/protocol/release"
	"kambrel.example/kambrel/protocol/wire"
)

func newAgentReleaseCommand(d *deps) *cobra.Command {
	command := &cobra.Command{
		Use: "release", Short: "Sign versions of the agent, and pass them on to agents",
		Long: `Agents whose host allows it ('kambrel agent allow-updates') take newer programs from the
service. Whoever holds the release key signs them; keep it away from the service's
host, which only passes on what was signed:

  kambrel agent release key release.jwk            once
  kambrel agent release sign --key release.jwk ... for each version
  kambrel agent release add kambrel-agent_0.2.0.jws
  kambrel agent update --all --to 0.2.0`,
	}
	command.AddCommand(newReleaseKeyCommand(), newReleaseSignCommand(), newReleaseAddCommand(d), newReleaseListCommand(d), newReleaseRemoveCommand(d))
	return command
}

func newReleaseKeyCommand() *cobra.Command {
	return &cobra.Command{
		Use: "key FILE", Short: "Make the key that signs versions of the agent", Args: terminal.OneArgument("the file for the key, which must not exist"),
		Long:    "Makes an Ed25519 key (RFC 8037) as a JWK, mode 0600, and beside it the public half,\nwhich is for the agents' hosts.",
		Example: "  kambrel agent release key release.jwk",
		RunE: func(cmd *cobra.Command, args []string) error {
			key, err := release.NewKey()
			if err != nil {
				return err
			}
			private, err := json.Marshal(key)
			if err != nil {
				return err
			}
			public, err := json.Marshal(key.Public())
			if err != nil {
				return err
			}
			print, err := fingerprint.OfKey(key)
			if err != nil {
				return err
			}
			half := strings.TrimSuffix(args[0], ".jwk") + ".pub.jwk"
			if err := errors.Join(writeNew(args[0], private, 0o600), writeNew(half, public, 0o644)); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s signs versions of the agent: keep it away from the service's host.\n%s is for the agents' hosts: 'kambrel agent allow-updates --key %s'.\nIts thumbprint (RFC 7638), to compare there:\n  %s\n", args[0], half, half, print)
			return err
		},
	}
}

// writeNew writes a file that must not exist.
func writeNew(file string, text []byte, mode os.FileMode) error {
	to, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = to.Write(append(text, '\n'))
	return errors.Join(err, to.Close())
}

func newReleaseSignCommand() *cobra.Command {
	var keyFile, version, out string
	command := &cobra.Command{
		Use: "sign PLATFORM=FILE...", Short: "Sign the programs of a version of the agent",
		Long: `Signs programs of 'kambrel-agent' that were built as a version, and writes what was
signed as a JWS (RFC 7515). 'kambrel agent release add' finds the programs beside it
by their names. 'make packages RELEASE_KEY=release.jwk' does all of it.`,
		Example: "  kambrel agent release sign --key release.jwk --version 0.2.0 linux-amd64=kambrel-agent_0.2.0_linux_amd64 windows-amd64=kambrel-agent_0.2.0_windows_amd64.exe",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return fmt.Errorf("%s needs a program for at least one platform, as linux-amd64=FILE", cmd.CommandPath())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := os.ReadFile(keyFile)
			if err != nil {
				return err
			}
			key, err := release.ReadKey(text)
			if err != nil {
				return fmt.Errorf("%s: %w", keyFile, err)
			}
			r := release.Release{Version: version, Made: time.Now().Unix()}
			for _, arg := range args {
				platform, file, found := strings.Cut(arg, "=")
				if !found {
					return fmt.Errorf("%q: write PLATFORM=FILE, as linux-amd64=kambrel-agent", arg)
				}
				program, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				r.Files = append(r.Files, release.FileOf(platform, filepath.Base(file), program))
			}
			statement, err := release.Sign(key, r)
			if err != nil {
				return err
			}
			if out == "" {
				out = "kambrel-agent_" + version + ".jws"
			}
			if err := writeNew(out, []byte(statement), 0o644); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s: version %s for %s. Next: 'kambrel agent release add %s'.\n", out, version, platforms(r), out)
			return err
		},
	}
	command.Flags().StringVar(&keyFile, "key", "", "file of the release key")
	command.Flags().StringVar(&version, "version", "", "the version, as 0.2.0")
	command.Flags().StringVar(&out, "out", "", "file to write; by default kambrel-agent_VERSION.jws")
	_ = command.MarkFlagRequired("key")
	_ = command.MarkFlagRequired("version")
	return command
}

func platforms(r release.Release) string {
	names := make([]string, len(r.Files))
	for i, file := range r.Files {
		names[i] = file.Platform
	}
	return strings.Join(names, ", ")
}

func newReleaseAddCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "add STATEMENT", Short: "Add a signed version of the agent, with its programs", Args: terminal.OneArgument("what 'kambrel agent release sign' has written"),
		Long: `Brings a version to the service, from where agents take it once they are to: this
alone changes nothing anywhere. The programs are read from the folder of the
statement, and must be those that were signed. An upload that broke off goes on when
it is run again.`,
		Example: "  kambrel agent release add var/packages/kambrel-agent_0.2.0.jws",
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			signed, _, err := release.Read(string(text))
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			programs := make([][]byte, len(signed.Files))
			for i, file := range signed.Files { // all are looked at before the first is sent
				if programs[i], err = os.ReadFile(filepath.Join(filepath.Dir(args[0]), filepath.Base(file.Name))); err != nil {
					return err
				}
				if err := file.Matches(programs[i]); err != nil {
					return fmt.Errorf("%s: %w", file.Name, err)
				}
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Release, error) {
				r, err := c.AddRelease(ctx, string(text))
				if err != nil {
					return r, err
				}
				for i, file := range signed.Files {
					if r.Files[i].Here && r.Files[i].Platform == file.Platform {
						continue
					}
					if r, err = c.AddProgram(ctx, signed.Version, file.Platform, programs[i]); err != nil {
						return r, err
					}
				}
				return r, nil
			}, func(w io.Writer, r wire.Release) error {
				_, err := fmt.Fprintf(w, "Version %s is here for %s, signed by\n  %s\nNo agent takes it yet: 'kambrel agent update AGENT --to %s'.\n", r.Version, platforms(signed), r.Key, r.Version)
				return err
			})
		},
	}
}

func newReleaseListCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the versions of the agent that can be passed on", Args: terminal.NoArguments, Example: "  kambrel agent release list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.Release, error) { return c.Releases(ctx) }, func(w io.Writer, releases []wire.Release) error {
				if len(releases) == 0 {
					_, err := fmt.Fprintln(w, "None. Add one with 'kambrel agent release add STATEMENT'.")
					return err
				}
				t := newTable("VERSION", "PLATFORMS", "SIGNED BY", "ADDED", "BY")
				for _, r := range releases {
					names := make([]string, len(r.Files))
					for i, file := range r.Files {
						if names[i] = file.Platform; !file.Here {
							names[i] += " (not here yet)"
						}
					}
					t.add(r.Version, strings.Join(names, ", "), r.Key, when(&r.Added), r.AddedBy)
				}
				return t.print(w)
			})
		},
	}
}

func newReleaseRemoveCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "remove VERSION", Short: "Remove a version that no agent is to go on by", Args: terminal.OneArgument("the version"),
		Long:    "Removes a version from the service. Agents that run it go on with it.",
		Example: "  kambrel agent release remove 0.2.0",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			if err := c.RemoveRelease(cmd.Context(), args[0]); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "Version %s is not passed on any more.\n", args[0])
			return err
		},
	}
}

func newAgentUpdateCommand(d *deps) *cobra.Command {
	var to string
	var all, cancel bool
	command := &cobra.Command{
		Use: "update [AGENT...]", Short: "Have agents go on by a newer version, one after the other",
		Long: `Has agents take a version that was added ('kambrel agent release add') and go on by
it: those that are named, or with --all those whose host allows it by the key by which
it is signed. One goes at a time; what it has begun it ends first. When it does not
report within a minute it goes back to the version before by itself, 'kambrel health'
tells, and no other gets that version until it is tried again or cancelled.`,
		Example: "  kambrel agent update halvard-1 --to 0.2.0\n  kambrel agent update --all --to 0.2.0\n  kambrel agent update halvard-1 --cancel",
		Args: func(cmd *cobra.Command, args []string) error {
			switch {
			case all == (len(args) > 0):
				return fmt.Errorf("%s needs the names of agents, or --all", cmd.CommandPath())
			case all && cancel:
				return errors.New("name the agents that are to stay at their version")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.Agent, error) {
				var ids []string
				var found []wire.Agent
				for _, name := range args {
					agent, err := findAgent(ctx, c, name)
					if err != nil {
						return nil, err
					}
					ids, found = append(ids, agent.ID), append(found, agent)
				}
				if !cancel {
					return c.UpdateAgents(ctx, to, ids...)
				}
				for i, id := range ids {
					var err error
					if found[i], err = c.KeepAgentVersion(ctx, id); err != nil {
						return nil, err
					}
				}
				return found, nil
			}, func(w io.Writer, agents []wire.Agent) error {
				for _, agent := range agents {
					said := fmt.Sprintf("%s stays at %s.", agent.Name, agent.Version)
					if agent.Update != nil {
						said = fmt.Sprintf("%s goes on by %s when it has its turn (it runs %s).", agent.Name, agent.Update.To, agent.Version)
					}
					if _, err := fmt.Fprintln(w, said); err != nil {
						return err
					}
				}
				if !cancel {
					_, err := fmt.Fprintln(w, "Look with 'kambrel agent list'.")
					return err
				}
				return nil
			})
		},
	}
	command.Flags().StringVar(&to, "to", "", "the version")
	command.Flags().BoolVar(&all, "all", false, "all agents that take it")
	command.Flags().BoolVar(&cancel, "cancel", false, "let them stay at their version instead")
	command.MarkFlagsMutuallyExclusive("to", "cancel")
	command.MarkFlagsOneRequired("to", "cancel")
	return command
}

// versionText says which version an agent runs, and which it is to go on by.
func versionText(a wire.Agent) string {
	text := or(a.Version, "-")
	if a.Update != nil {
		text += fmt.Sprintf(" (%s: %s)", a.Update.To, map[string]string{wire.UpdateWaits: "waits for its turn", wire.UpdateOffered: "is going on by it", wire.UpdateFailed: "FAILED"}[a.Update.State])
	}
	return text
}
