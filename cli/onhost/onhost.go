// Package onhost is what is done on an agent's host: enrolling it, telling it of directories
// and of the cloud that it trusts, and running it.
package onhost

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/agent"
	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/core/address"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/core/version"
)

// Commands are those beneath 'kambrel agent'.
func Commands() []*cobra.Command {
	return []*cobra.Command{enrolCommand(), directoryCommand(), trustCommand(), updatesCommand(), keyCommand(), runCommand()}
}

const FingerprintUsage = "SHA-256 fingerprint of the service's own authority, as printed where it starts"

// Meet finds by which authority a service is known (PEM), "" where this host knows it already:
// kept, which was compared before, one that has the fingerprint, or that somebody
// compares now.
func Meet(cmd *cobra.Command, services, fingerprint, kept string) (string, error) {
	var shown agent.Authorities
	err := address.ServicesOf(services).Ask(func(one string) (bool, error) {
		if !strings.HasPrefix(one, "https://") {
			return true, nil
		}
		var err error
		shown, err = agent.Shown(cmd.Context(), one)
		return err == nil, err
	})
	switch {
	case err != nil:
		return "", err
	case fingerprint != "":
		if !shown.Any() {
			return "", fmt.Errorf("%s shows no certificate whose fingerprint could be compared", services)
		}
		return shown.Matching(fingerprint)
	case !shown.Any() || shown.Trusted():
		return "", nil
	}
	if shown.VouchedBy(kept) {
		return kept, nil
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "This host knows no authority that vouches for %s. It shows one with the fingerprint (SHA-256)\n  %s\nCompare it with what the service prints where it starts.\n", shown.Host, shown.Fingerprint())
	if err := terminal.Confirm(cmd, "Are they the same?", "yes", "--fingerprint"); err != nil {
		return "", err
	}
	return shown.Matching(shown.Fingerprint())
}

func enrolCommand() *cobra.Command {
	var code, file, fingerprint string
	config := agent.Config{}
	command := &cobra.Command{
		Use: "enrol", Short: "Give this host's agent its identity", Args: terminal.NoArguments,
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
				authority, err := Meet(cmd, config.Service, fingerprint, "")
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
	command.Flags().StringVar(&fingerprint, "fingerprint", "", FingerprintUsage)
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

func runCommand() *cobra.Command {
	var file string
	command := &cobra.Command{
		Use: "run", Short: "Run the agent on this host", Args: terminal.NoArguments, Example: "  kambrel agent run",
		Long: `Runs the agent until it is told to end. Where this host takes newer programs from the
service ('kambrel agent allow-updates'), the newest of them goes on in its place, and the
one before goes on again when the new one does not report within a minute.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			config, err := agent.Load(file)
			if err != nil {
				return err
			}
			if len(config.Directories) == 0 {
				fmt.Fprintf(cmd.ErrOrStderr(), "%s names no directories yet: add them with 'kambrel agent directory set'; they are taken up while the agent runs.\n", file)
			}
			defer SpareMemory(32)()
			return agent.RunNewest(cmd.Context(), file, version.Number, os.Args[1:])
		},
	}
	command.Flags().StringVar(&file, "config", agent.DefaultFile(), "the agent's configuration file")
	return command
}

func directoryCommand() *cobra.Command {
	command := &cobra.Command{Use: "directory", Short: "Tell this host's agent how to reach directories"}
	var file, passwordFile, keptIn string
	directory := agent.Directory{}
	set := &cobra.Command{
		Use: "set NAME", Short: "Add a directory, or change how to reach it", Args: terminal.OneArgument("the directory's name, as in the settings"),
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
				password, err := terminal.ReadPassword(cmd, passwordFile)
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

// Execute runs the command line of a host that has the agent alone, and returns its exit
// status.
func Execute() int {
	root := &cobra.Command{
		Use: "kambrel", Short: "The agent of Kambrel", Version: version.Number, SilenceUsage: true, SilenceErrors: true,
		Long: "The agent of Kambrel on its host, beside a directory. It connects outward only, to the\nservice, and holds the directory's password.\n\nExit status: 0 done, 1 failed.",
	}
	agents := &cobra.Command{Use: "agent", Short: "Enrol the agent, tell it of directories, and run it"}
	agents.AddCommand(Commands()...)
	root.AddCommand(agents)
	return terminal.Execute(root)
}
