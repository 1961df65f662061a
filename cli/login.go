package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"kambrel.example/kambrel/agent"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/protocol/wire"
)

func newLoginCommand(d *deps) *cobra.Command {
	var name, passwordFile string
	command := &cobra.Command{
		Use: "login URL", Short: "Sign in to a service and keep the session", Args: oneArgument("the URL of the service"),
		Long: `Signs in and keeps the session for later commands. The password is asked for on a
terminal, or read from --password-file, where - is standard input.`,
		Example: "  kambrel login https://kambrel.halvard.example --name ingrid\n  echo \"$PASSWORD\" | kambrel login http://127.0.0.1:7600 --name administrator --password-file -",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := agent.CheckServices(args[0]); err != nil {
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
				fmt.Fprintf(w, "Signed in as %s (%s). Commands go to %s from now on.\n", session.Name, session.Role, args[0])
				if os.Getenv("KAMBREL_SERVICE") != "" {
					fmt.Fprintf(w, "But not in this shell: KAMBREL_SERVICE is %s, and it wins.\n", os.Getenv("KAMBREL_SERVICE"))
				}
				if running, err := findDemo(); err == nil && running != nil {
					fmt.Fprintf(w, "That holds here too, where the demo of %s runs, until a demo is started again; '--service %s' reaches that one.\n", filepath.Dir(running.file), running.Service)
				}
				return nil
			})
		},
	}
	command.Flags().StringVar(&name, "name", "administrator", "who signs in")
	command.Flags().StringVar(&passwordFile, "password-file", "", "file that holds the password; - for standard input")
	return command
}

func newLogoutCommand(d *deps) *cobra.Command {
	var everywhere bool
	command := &cobra.Command{
		Use: "logout", Short: "Sign out, here or everywhere", Args: noArguments, Example: "  kambrel logout\n  kambrel logout --everywhere",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			if err := c.SignOut(cmd.Context(), everywhere); err != nil {
				return err
			}
			if kept, err := readProfile(userProfile()); err == nil && kept.Token == c.Token() {
				if err := os.Remove(userProfile()); err != nil {
					return err
				}
			}
			_, err = fmt.Fprintln(cmd.OutOrStdout(), map[bool]string{true: "Signed out everywhere: all your sessions have ended.", false: "Signed out."}[everywhere])
			return err
		},
	}
	command.Flags().BoolVar(&everywhere, "everywhere", false, "end all your sessions")
	return command
}

func readPassword(cmd *cobra.Command, file string) (string, error) {
	return askPassword(cmd, file, "Password: ")
}

func askPassword(cmd *cobra.Command, file, prompt string) (string, error) {
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
		fmt.Fprint(cmd.ErrOrStderr(), prompt)
		text, err = term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(cmd.ErrOrStderr())
	}
	return strings.TrimRight(string(text), "\r\n"), err
}

func readFile(cmd *cobra.Command, name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(cmd.InOrStdin())
	}
	return os.ReadFile(name)
}
