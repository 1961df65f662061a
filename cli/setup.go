package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"kambrel.example/kambrel/agent"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/wire"
)

func newLoginCommand(d *deps) *cobra.Command {
	var name, passwordFile string
	command := &cobra.Command{
		Use: "login URL", Short: "Sign in to a service and keep the session", Args: oneArgument("the URL of the service"),
		Long: `Signs in and keeps the session for later commands. The password is asked for on a
terminal, or read from --password-file, where - is standard input.`,
		Example: "  kambrel login https://kambrel.halvard.example --name ingrid\n  echo \"$PASSWORD\" | kambrel login http://127.0.0.1:7600 --name administrator --password-file -",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := agent.CheckService(args[0]); err != nil {
				return err
			}
			password, err := readPassword(cmd, passwordFile)
			if err != nil {
				return err
			}
			c, session, err := client.Login(cmd.Context(), args[0], wire.Credentials{Name: name, Password: password})
			if err != nil {
				return err
			}
			if err := (Profile{Service: args[0], Token: c.Token()}).Save(userProfile()); err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), session, func(w io.Writer) error {
				_, err := fmt.Fprintf(w, "Signed in as %s (%s).\n", session.Name, session.Role)
				return err
			})
		},
	}
	command.Flags().StringVar(&name, "name", "administrator", "who signs in")
	command.Flags().StringVar(&passwordFile, "password-file", "", "file that holds the password; - for standard input")
	return command
}

func readPassword(cmd *cobra.Command, file string) (string, error) {
	var text []byte
	var err error
	switch {
	case file == "-":
		text, err = io.ReadAll(cmd.InOrStdin())
	case file != "":
		text, err = os.ReadFile(file)
	default:
		if !term.IsTerminal(int(os.Stdin.Fd())) {
			return "", errors.New("there is no terminal to ask for the password on: give --password-file")
		}
		fmt.Fprint(cmd.ErrOrStderr(), "Password: ")
		text, err = term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(cmd.ErrOrStderr())
	}
	return strings.TrimRight(string(text), "\r\n"), err
}

func newSettingsCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "settings", Short: "Show, export and activate settings"}
	show := &cobra.Command{
		Use: "show", Short: "Show the active settings", Args: noArguments, Example: "  kambrel settings show",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return d.withSettings(cmd, func(w io.Writer, s wire.Settings) error {
				fmt.Fprintf(w, "Revision %d, activated %s by %s", s.Revision, when(&s.Activated), s.By)
				if s.Note != "" {
					fmt.Fprintf(w, ": %s", s.Note)
				}
				_, err := fmt.Fprintf(w, "\n\n%s", s.YAML)
				return err
			})
		},
	}
	export := &cobra.Command{
		Use: "export", Short: "Print the active settings as a file to edit", Args: noArguments, Example: "  kambrel settings export > settings.yaml",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			s, err := c.Settings(cmd.Context())
			if err != nil {
				return err
			}
			if d.output == "json" {
				return d.print(cmd.OutOrStdout(), s.Document, nil)
			}
			_, err = fmt.Fprint(cmd.OutOrStdout(), s.YAML)
			return err
		},
	}
	var note string
	var base int
	activate := &cobra.Command{
		Use: "activate FILE", Short: "Activate a settings file", Args: oneArgument("a settings file; - for standard input"),
		Long: `Checks the file and makes it the active settings. All faults are listed at once,
and then nothing is activated. The next run works by the new settings;
'kambrel rehearse' shows beforehand what it will do.`,
		Example: "  kambrel settings activate settings.yaml --note 'Terminals take part'",
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := readFile(cmd, args[0])
			if err != nil {
				return err
			}
			c, err := d.client()
			if err != nil {
				return err
			}
			s, err := c.Activate(cmd.Context(), wire.ActivateSettings{YAML: string(text), Note: note, Base: base})
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), s, func(w io.Writer) error {
				_, err := fmt.Fprintf(w, "Revision %d is active. The next run works by it; see beforehand with 'kambrel rehearse'.\n", s.Revision)
				return err
			})
		},
	}
	activate.Flags().StringVar(&note, "note", "", "why, for the history")
	activate.Flags().IntVar(&base, "base", 0, "refuse if another revision than this one is active")
	command.AddCommand(show, export, activate)
	return command
}

func (d *deps) withSettings(cmd *cobra.Command, show func(io.Writer, wire.Settings) error) error {
	c, err := d.client()
	if err != nil {
		return err
	}
	s, err := c.Settings(cmd.Context())
	if err != nil {
		return err
	}
	return d.print(cmd.OutOrStdout(), s, func(w io.Writer) error { return show(w, s) })
}

func readFile(cmd *cobra.Command, name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(cmd.InOrStdin())
	}
	return os.ReadFile(name)
}
