package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/agent"
	"kambrel.example/kambrel/cli/onhost"
	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
)

func newLoginCommand(d *deps) *cobra.Command {
	var name, directory, passwordFile, code, fingerprint string
	command := &cobra.Command{
		Use: "login URL", Short: "Sign in to a service and keep the session", Args: terminal.OneArgument("the URL of the service"),
		Long: `Signs in and keeps the session for later commands. The password is asked for on a
terminal, or read from --password-file, where - is standard input.

A service that is known by an authority of its own, as one is that was given no
certificate, is believed once its fingerprint was compared: on the terminal, or
with --fingerprint. It is printed where the service starts. Programs that do not
sign in name a file with the authority in KAMBREL_CA.

With --directory the name is a login of that directory, and the password the one that
it has; one of its groups has to let its members sign in: see 'kambrel operator group'.`,
		Example: "  kambrel login https://kambrel.halvard.example --name ingrid\n  kambrel login https://kambrel.halvard.example --directory brisling --name ada.lind\n  echo \"$PASSWORD\" | kambrel login http://127.0.0.1:7600 --name administrator --password-file -",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := agent.CheckServices(args[0]); err != nil {
				return err
			}
			p := Profile{Service: args[0]}
			var err error
			kept, _ := readProfile(userProfile()) // without one nothing was compared before
			if !sameService(kept.Service, args[0]) {
				kept.Authority = ""
			}
			if p.Authority, err = onhost.Meet(cmd, args[0], fingerprint, kept.Authority); err != nil {
				return err
			}
			password, err := terminal.ReadPassword(cmd, passwordFile)
			if err != nil {
				return err
			}
			c, err := p.client()
			if err != nil {
				return err
			}
			credentials := wire.Credentials{Name: name, Password: password, Directory: directory, Code: code}
			session, err := c.SignIn(cmd.Context(), credentials)
			var refusal *client.Error
			if errors.As(err, &refusal) && refusal.Code() == problem.SecondFactorNeeded && terminal.Interactive(cmd) {
				if credentials.Code, err = terminal.Ask(cmd, "Code of your authenticator: "); err != nil {
					return err
				}
				session, err = c.SignIn(cmd.Context(), credentials)
			}
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
	command.Flags().StringVar(&directory, "directory", "", "the directory that knows name and password; none for an operator of Kambrel's own")
	command.Flags().StringVar(&code, "code", "", "of your authenticator, where you have a second factor; asked for on a terminal")
	command.Flags().StringVar(&fingerprint, "fingerprint", "", onhost.FingerprintUsage)
	command.Flags().StringVar(&passwordFile, "password-file", "", "file that holds the password; - for standard input")
	return command
}

func newLogoutCommand(d *deps) *cobra.Command {
	var everywhere bool
	command := &cobra.Command{
		Use: "logout", Short: "Sign out, here or everywhere", Args: terminal.NoArguments, Example: "  kambrel logout\n  kambrel logout --everywhere",
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
