package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/agent"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/address"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/api"
)

func newAgentCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "agent", Short: "Enrol, run and list agents"}
	command.AddCommand(newAgentListCommand(d), newAgentCodeCommand(d), newAgentGrantCommand(d), newAgentWithdrawCommand(d), newAgentRetireCommand(d), newAgentEnrolCommand(), newAgentDirectoryCommand(), newAgentTrustCommand(), newAgentKeyCommand(), newAgentRunCommand())
	return command
}

func newAgentListCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List agents and what they serve", Args: noArguments, Example: "  kambrel agent list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.Agent, error) { return c.Agents(ctx) }, func(w io.Writer, agents []wire.Agent) error {
				t := newTable("NAME", "STATE", "HOST", "VERSION", "SERVES", "LIVE", "LAST CONTACT", "ID")
				for _, a := range agents {
					serves := or(strings.Join(a.Directories, ", "), "-")
					if len(a.Asks) > 0 {
						serves += " (asks for " + strings.Join(a.Asks, ", ") + ")"
					}
					if len(a.Plain) > 0 {
						serves += " (PLAIN LDAP: " + strings.Join(a.Plain, ", ") + ")"
					}
					t.add(a.Name, agentState(a), a.Host, or(a.Version, "-"), serves, liveText(a.Watches), when(a.LastContact), a.ID)
				}
				if err := t.print(w); err != nil {
					return err
				}
				for _, a := range agents {
					for _, one := range a.Watches {
						if one.State != wire.Watched {
							fmt.Fprintf(w, "\n%s does not hear of changes in %s since %s: %s\n  They come with the schedule until then.\n", a.Name, one.Directory, when(&one.Since), one.Detail)
						}
					}
					for _, fault := range a.Faults {
						fmt.Fprintf(w, "\n%s fails at %s since %s: %s\n  Look again with 'kambrel directory probe %s --agent %s'; until it is well, others do its work.\n", a.Name, fault.Directory, when(&fault.Since), fault.Detail, fault.Directory, a.Name)
					}
				}
				return nil
			})
		},
	}
}

// liveText says how an agent hears of changes.
func liveText(watches []wire.Watch) string {
	texts := make([]string, len(watches))
	for i, one := range watches {
		texts[i] = one.Directory + " " + one.State
	}
	return or(strings.Join(texts, ", "), "-")
}

// agentState says how an agent is, and that it fails where it does.
func agentState(a wire.Agent) string {
	if len(a.Faults) == 0 {
		return a.State
	}
	failing := make([]string, len(a.Faults))
	for i, fault := range a.Faults {
		failing[i] = fault.Directory
	}
	return a.State + ", FAILS at " + strings.Join(failing, ", ")
}

func newAgentCodeCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "code DIRECTORY...", Short: "Issue a one-time code that enrols an agent for directories", Args: someDirectories(0),
		Long: `Issues a code that enrols one agent, which may then speak for the directories
that are named and no others; they need not be in the settings yet. The code is
shown once and expires after an hour.`, Example: "  kambrel agent code halvard\n  kambrel agent code halvard brisling",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.EnrolmentCode, error) {
				return c.IssueCode(ctx, args...)
			}, func(w io.Writer, code wire.EnrolmentCode) error {
				_, err := fmt.Fprintf(w, "For %s. On the agent's host, before %s:\n\n  %s\n", strings.Join(code.Directories, ", "), when(&code.Expires), code.Command)
				return err
			})
		},
	}
}

func newAgentRetireCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "retire AGENT", Short: "End an agent's identity", Args: oneArgument("the agent's name or id"), Example: "  kambrel agent retire halvard-1",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			agent, err := findAgent(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			if err := c.RetireAgent(cmd.Context(), agent.ID); err != nil {
				return err
			}
			_, err = fmt.Fprintln(cmd.OutOrStdout(), "Retired. The agent ends by itself when it next asks for an order.")
			return err
		},
	}
}

// someDirectories asks for names of directories after the first few arguments.
func someDirectories(after int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) > after {
			return nil
		}
		return fmt.Errorf("%s needs the names of the directories, as in the settings. See '%s --help'", cmd.CommandPath(), cmd.CommandPath())
	}
}

// findAgent finds an agent by its name or id.
func findAgent(ctx context.Context, c *client.Client, text string) (wire.Agent, error) {
	agents, err := c.Agents(ctx)
	if err != nil {
		return wire.Agent{}, err
	}
	var names []string
	for _, a := range agents {
		if a.ID == text || a.Name == text {
			return a, nil
		}
		names = append(names, a.Name)
	}
	return wire.Agent{}, fmt.Errorf("there is no agent %q; there are %s", text, or(strings.Join(names, ", "), "none"))
}

func newAgentGrantCommand(d *deps) *cobra.Command {
	return grantCommand(d, "grant", "Let an agent speak for more directories", "  kambrel agent grant halvard-1 brisling", func(have, named []string) []string {
		return slices.Compact(slices.Sorted(slices.Values(append(slices.Clone(have), named...))))
	})
}

func newAgentWithdrawCommand(d *deps) *cobra.Command {
	return grantCommand(d, "withdraw", "Let an agent no longer speak for directories", "  kambrel agent withdraw halvard-1 brisling", func(have, named []string) []string {
		return slices.DeleteFunc(slices.Clone(have), func(name string) bool { return slices.Contains(named, name) })
	})
}

func grantCommand(d *deps, verb, short, example string, change func(have, named []string) []string) *cobra.Command {
	return &cobra.Command{
		Use: verb + " AGENT DIRECTORY...", Short: short, Args: someDirectories(1), Example: example,
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Agent, error) {
				agent, err := findAgent(ctx, c, args[0])
				if err != nil {
					return agent, err
				}
				return c.GrantDirectories(ctx, agent.ID, change(agent.Granted, args[1:]))
			}, func(w io.Writer, agent wire.Agent) error {
				_, err := fmt.Fprintf(w, "%s may speak for %s.\n", agent.Name, or(strings.Join(agent.Granted, ", "), "no directory"))
				return err
			})
		},
	}
}

func newAgentEnrolCommand() *cobra.Command {
	var code, file, fingerprint string
	config := agent.Config{}
	command := &cobra.Command{
		Use: "enrol", Short: "Give this host's agent its identity", Args: noArguments,
		Long: `Exchanges a one-time code for an identity. The agent makes its own key pair; only
the public half leaves this host. 'kambrel agent directory set' then tells it how
to reach the directories that it serves; in the configuration file (mode 0600):

  directories:
    - name: halvard              # as in the settings
      url: ldaps://dc1.corp.halvard.example
      ca: /etc/kambrel/halvard-ca.pem
      bindDN: svc-kambrel@corp.halvard.example
      password: ...`,
		Example: "  kambrel agent enrol --service https://kambrel.halvard.example --code CODE",
		RunE: func(cmd *cobra.Command, _ []string) error {
			known, err := agent.Load(file)
			if err == nil {
				if known.AgentID != "" {
					return fmt.Errorf("%s belongs to an enrolled agent already (%s): give another --config, or delete the file to begin anew", file, known.AgentID)
				}
				known.Service, known.Name, known.ServiceCA = config.Service, config.Name, config.ServiceCA
				config = known
			} else if _, statErr := os.Stat(file); statErr == nil {
				return err
			}
			config.Service = strings.Join(address.List(config.Service), ",")
			if config.ServiceCA == "" {
				authority, err := meet(cmd, config.Service, fingerprint)
				if err != nil {
					return err
				}
				if config.ServiceCA, err = keepAuthority(file, authority); err != nil {
					return err
				}
			}
			enrolled, err := agent.Enrol(cmd.Context(), config, code)
			if err != nil {
				return err
			}
			if err := enrolled.Save(file); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "Enrolled as %s. Next: 'kambrel agent directory set NAME --config %s' for each directory it serves, then 'kambrel agent run --config %s'.\n", enrolled.Name, file, file)
			return err
		},
	}
	host, _ := os.Hostname()
	command.Flags().StringVar(&config.Service, "service", "", "URL of the service, or those of all on one database with commas between")
	command.Flags().StringVar(&code, "code", "", "one-time code")
	command.Flags().StringVar(&config.Name, "name", host, "what to call the agent")
	command.Flags().StringVar(&config.ServiceCA, "service-ca", "", "PEM bundle for the service's certificate")
	command.Flags().StringVar(&fingerprint, "fingerprint", "", fingerprintUsage)
	command.Flags().StringVar(&file, "config", agent.DefaultFile(), "the agent's configuration file")
	_ = command.MarkFlagRequired("service")
	_ = command.MarkFlagRequired("code")
	return command
}

// keepAuthority writes the authority by which the service is known beside the agent's
// configuration, and returns the file, "" for none.
func keepAuthority(config, authority string) (string, error) {
	if authority == "" {
		return "", nil
	}
	file := filepath.Join(filepath.Dir(config), "service-ca.pem")
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return "", err
	}
	absolute, err := filepath.Abs(file)
	if err != nil {
		return "", err
	}
	return absolute, os.WriteFile(absolute, []byte(authority), 0o644)
}

func newAgentRunCommand() *cobra.Command {
	var file string
	command := &cobra.Command{
		Use: "run", Short: "Run the agent on this host", Args: noArguments, Example: "  kambrel agent run",
		RunE: func(cmd *cobra.Command, _ []string) error {
			config, err := agent.Load(file)
			if err != nil {
				return err
			}
			if len(config.Directories) == 0 {
				fmt.Fprintf(cmd.ErrOrStderr(), "%s names no directories yet: add them with 'kambrel agent directory set'; they are taken up while the agent runs.\n", file)
			}
			a, err := agent.New(config, file, api.Version)
			if err != nil {
				return err
			}
			defer spareMemory(32)()
			return a.Run(cmd.Context())
		},
	}
	command.Flags().StringVar(&file, "config", agent.DefaultFile(), "the agent's configuration file")
	return command
}

func newAgentDirectoryCommand() *cobra.Command {
	command := &cobra.Command{Use: "directory", Short: "Tell this host's agent how to reach directories"}
	var file, passwordFile, keptIn string
	directory := agent.Directory{}
	set := &cobra.Command{
		Use: "set NAME", Short: "Add a directory, or change how to reach it", Args: oneArgument("the directory's name, as in the settings"),
		Long: `Writes how to reach a directory into the agent's configuration file (mode 0600).
The password stays on this host. It is asked for on a terminal, or read from
--password-file, where - is standard input; with --password-in the configuration
names the file in which it stays, such as a credential of the service manager. An
agent that runs takes all of it up at once.`,
		Example: "  kambrel agent directory set halvard --url ldaps://dc1.corp.halvard.example --ca /etc/kambrel/halvard-ca.pem --bind-dn svc-kambrel@corp.halvard.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			config, err := agent.Load(file)
			if err != nil {
				return err
			}
			directory.Name = args[0]
			if err := directory.Check(); err != nil {
				return err
			}
			if directory.PasswordFile = keptIn; keptIn == "" {
				password, err := readPassword(cmd, passwordFile)
				if err != nil {
					return err
				}
				directory.Password = secret.Text(password)
			}
			config.SetDirectory(directory)
			if err := config.Save(file); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s serves %s. Probe it with 'kambrel directory probe %s'.\n", file, directory.Name, directory.Name)
			return err
		},
	}
	flags := set.Flags()
	flags.StringVar(&directory.URL, "url", "", "ldaps://HOST[:PORT], or ldap://HOST[:PORT] with --start-tls")
	flags.BoolVar(&directory.StartTLS, "start-tls", false, "protect an ldap:// connection by StartTLS")
	flags.BoolVar(&directory.AllowPlain, "allow-plain", false, "allow an unprotected connection; it is then flagged everywhere")
	flags.StringVar(&directory.CA, "ca", "", "PEM bundle that the directory's certificate is held against; by default the system's")
	flags.StringVar(&directory.BindDN, "bind-dn", "", "account to sign in with")
	flags.StringVar(&passwordFile, "password-file", "", "file that holds the password; - for standard input")
	flags.StringVar(&keptIn, "password-in", "", "file in which the password stays, for its owner alone; $CREDENTIALS_DIRECTORY is the service manager's")
	set.MarkFlagsMutuallyExclusive("password-file", "password-in")
	flags.StringVar(&file, "config", agent.DefaultFile(), "the agent's configuration file")
	_ = set.MarkFlagRequired("url")
	_ = set.MarkFlagRequired("bind-dn")
	command.AddCommand(set)
	return command
}
