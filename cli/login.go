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
	"kambrel.example/kambrel/core/address"
	"kambrel.example/kambrel/protocol/wire"
)

func newLoginCommand(d *deps) *cobra.Command {
	var name, passwordFile, fingerprint string
	command := &cobra.Command{
		Use: "login URL", Short: "Sign in to a service and keep the session", Args: oneArgument("the URL of the service"),
		Long: `Signs in and keeps the session for later commands. The password is asked for on a
terminal, or read from --password-file, where - is standard input.

A service that is known by an authority of its own, as one is that was given no
certificate, is believed once its fingerprint was compared: on the terminal, or
with --fingerprint. It is printed where the service starts. Programs that do not
sign in name a file with the authority in KAMBREL_CA.`,
		Example: "  kambrel login https://kambrel.halvard.example --name ingrid\n  echo \"$PASSWORD\" | kambrel login http://127.0.0.1:7600 --name administrator --password-file -",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := agent.CheckServices(args[0]); err != nil {
				return err
			}
			p := Profile{Service: args[0]}
			var err error
			if p.Authority, err = meet(cmd, args[0], fingerprint); err != nil {
				return err
			}
			password, err := readPassword(cmd, passwordFile)
			if err != nil {
				return err
			}
			c, err := p.client()
			if err != nil {
				return err
			}
			session, err := c.SignIn(cmd.Context(), wire.Credentials{Name: name, Password: password})
			if err != nil {
				return err
			}
			p.Token = c.Token()
			if err := p.Save(userProfile()); err != nil {
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
	command.Flags().StringVar(&fingerprint, "fingerprint", "", fingerprintUsage)
	command.Flags().StringVar(&passwordFile, "password-file", "", "file that holds the password; - for standard input")
	return command
}

const fingerprintUsage = "SHA-256 fingerprint of the service's own authority, as printed where it starts"

// meet finds by which authority a service is known (PEM), "" where this host knows it already:
// the one that was compared before, or one that has the fingerprint, or that somebody
// compares now.
func meet(cmd *cobra.Command, services, fingerprint string) (string, error) {
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
	if kept, err := readProfile(userProfile()); err == nil && kept.Authority != "" && sameService(kept.Service, services) && shown.VouchedBy(kept.Authority) {
		return kept.Authority, nil
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "This host knows no authority that vouches for %s. It shows one with the fingerprint (SHA-256)\n  %s\nCompare it with what the service prints where it starts.\n", shown.Host, shown.Fingerprint())
	if err := confirm(cmd, "Are they the same?", "yes", "--fingerprint"); err != nil {
		return "", err
	}
	return shown.Matching(shown.Fingerprint())
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
