package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/protocol/wire"
)

func newDomainTestCommand(d *deps) *cobra.Command {
	var in wire.NewSignInTest
	var file string
	var leave bool
	command := &cobra.Command{
		Use: "test DOMAIN", Short: "Try the sign-in of one person before anybody depends on it", Args: terminal.OneArgument("the domain"),
		Long: `Has the cloud try the sign-in of one person at the identity provider: open the address
that is printed with a browser and sign in as that person. The cloud makes no session of
it. Each field of the assertion is then shown against what the cloud expects, with the
reason for any refusal. It is waited for the answer; --leave only prints the address.

Where the cloud tries no sign-ins, sign in as usual, copy the value of SAMLResponse from
what the browser has sent, and give it as a file. Exit status 2 says that it was refused.`,
		Example: "  kambrel domain test brisling.example --person nils.aune@brisling.example\n  kambrel domain test brisling.example --person nils.aune@brisling.example --response response.txt",
		RunE: func(cmd *cobra.Command, args []string) error {
			if file != "" {
				text, err := terminal.ReadFile(cmd, file)
				if err != nil {
					return err
				}
				in.Response = string(text)
			}
			c, err := d.client()
			if err != nil {
				return err
			}
			test, err := c.TestSignIn(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			if test.State == "waiting" && !leave {
				fmt.Fprintf(cmd.ErrOrStderr(), "Open this with a browser, and sign in as %s:\n\n  %s\n\nWaiting until %s.\n", test.Person.Login, test.URL, test.Expires.Local().Format("15:04"))
				if test, err = awaitTest(cmd.Context(), c, args[0], test); err != nil {
					return err
				}
			}
			if err := d.print(cmd.OutOrStdout(), test, func(w io.Writer) error { return printTest(w, test) }); err != nil {
				return err
			}
			if test.State == "refused" || test.State == "ended" {
				return statusError(statusProblems)
			}
			return nil
		},
	}
	command.Flags().StringVar(&in.Person, "person", "", "a login, a distinguished name or an id")
	command.Flags().StringVar(&file, "response", "", "file with a response that a browser has sent, in Base64; - for standard input")
	command.Flags().BoolVar(&leave, "leave", false, "print the address and do not wait")
	_ = command.MarkFlagRequired("person")
	return command
}

func awaitTest(ctx context.Context, c *client.Client, domain string, test wire.SignInTest) (wire.SignInTest, error) {
	for test.State == "waiting" {
		if err := rest.For(ctx, time.Second); err != nil {
			return test, err
		}
		next, err := c.SignInTest(ctx, domain, test.ID)
		if err != nil {
			return test, err
		}
		test = next
	}
	return test, nil
}

func printTest(w io.Writer, test wire.SignInTest) error {
	switch test.State {
	case "waiting":
		_, err := fmt.Fprintf(w, "%s\n", test.URL)
		return err
	case "ended":
		_, err := fmt.Fprintln(w, "Nobody has signed in in time, or the cloud has forgotten the test. Begin another.")
		return err
	case "accepted":
		fmt.Fprintf(w, "ACCEPTED: %s would be signed in.\n", test.Person.Login)
	default:
		fmt.Fprintf(w, "REFUSED: %s would not be signed in.\n", test.Person.Login)
	}
	if test.CloudReason != "" {
		fmt.Fprintf(w, "The cloud says: %s\n", test.CloudReason)
	}
	fmt.Fprintln(w)
	return printFields(w, test.Fields)
}

func newDomainSignInCommand(d *deps) *cobra.Command {
	var in wire.SwitchSignIn
	var by string
	var yes bool
	command := &cobra.Command{
		Use: "sign-in DOMAIN", Short: "Switch how the people of a domain sign in", Args: terminal.OneArgument("the domain"),
		Long: `Has the people of a domain sign in at the identity provider: those who are named, the
members of groups, or everybody; or with a password again, which is always possible and
does not depend on the provider. Without --yes it only tells what it would do.`,
		Example: "  kambrel domain sign-in brisling.example --by provider --person nils.aune@brisling.example --yes\n  kambrel domain sign-in brisling.example --by provider --group Pilots --yes\n  kambrel domain sign-in brisling.example --by provider --everybody --yes\n  kambrel domain sign-in brisling.example --by password --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			everybody, err := cmd.Flags().GetBool("everybody")
			if err != nil {
				return err
			}
			some := len(in.People)+len(in.Groups) > 0
			switch {
			case by == "password" && (some || everybody):
				return fmt.Errorf("--by password is for everybody of the domain; to take some out, name those who stay with --by provider")
			case by == "password":
				in.SignOn = "password"
			case by != "provider":
				return fmt.Errorf("--by takes provider or password, not %q", by)
			case some == everybody:
				return fmt.Errorf("say who is to sign in at the provider: --person and --group, or --everybody")
			case some:
				in.SignOn = "some"
			default:
				in.SignOn = "provider"
			}
			if !yes {
				var preview wire.SwitchPreview
				if err := ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.SwitchPreview, error) {
					preview, err = c.PreviewSignIn(ctx, args[0], in)
					return preview, err
				}, printSwitch); err != nil {
					return err
				}
				if !preview.Allowed {
					return statusError(statusProblems)
				}
				return nil
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Federation, error) {
				federation, err := c.SwitchSignIn(ctx, args[0], in)
				// The cloud is told right after, which takes no longer than a question.
				for i := 0; err == nil && federation.State == "sending" && i < 20; i++ {
					if err = rest.For(ctx, 250*time.Millisecond); err == nil {
						federation, err = c.Federation(ctx, args[0])
					}
				}
				return federation, err
			}, printFederation)
		},
	}
	command.Flags().StringVar(&by, "by", "", "provider or password")
	command.Flags().StringSliceVar(&in.People, "person", nil, "who is to sign in at the provider; may be given several times")
	command.Flags().StringSliceVar(&in.Groups, "group", nil, "whose members are to; may be given several times")
	command.Flags().Bool("everybody", false, "everybody of the domain is to")
	command.Flags().BoolVar(&yes, "yes", false, "do it")
	_ = command.MarkFlagRequired("by")
	return command
}

func printSwitch(w io.Writer, p wire.SwitchPreview) error {
	for _, sentence := range p.Text {
		fmt.Fprintln(w, sentence)
	}
	if len(p.Checks) > 0 {
		fmt.Fprintln(w)
		if err := printVerdicts(w, p.Checks); err != nil {
			return err
		}
	}
	text := "\nNothing was done yet: add --yes."
	if !p.Allowed {
		text = "\nIt would be refused, for what is BAD above."
	}
	_, err := fmt.Fprintln(w, text)
	return err
}

var signOnWords = map[string]string{"password": "with a password", "some": "some at the identity provider, the others with a password", "provider": "at the identity provider"}

// printFederation tells how the people of a domain sign in.
func printFederation(w io.Writer, f wire.Federation) error {
	fmt.Fprintf(w, "  signs in  %s%s\n", signOnWords[f.SignOn], map[string]string{
		"in-step": "", "sending": " (the cloud is being told)", "failing": " (THE CLOUD HAS NOT TAKEN IT: " + f.Detail + ")", "drifted": " (CHANGED IN THE CLOUD: " + f.Detail + ")",
	}[f.State])
	var who []string
	for _, one := range f.People {
		who = append(who, one.Login)
	}
	for _, one := range f.Groups {
		who = append(who, "the members of "+one.Name)
	}
	if len(who) > 0 {
		fmt.Fprintf(w, "  there     %s\n", strings.Join(who, ", "))
	}
	if f.Away != "" {
		fmt.Fprintf(w, "  cloud     cannot be asked: %s\n", f.Away)
	} else if !f.Offered {
		fmt.Fprintf(w, "  cloud     lets nobody set it by its interface\n")
	}
	if f.Provider == nil {
		fmt.Fprintf(w, "  provider  none\n")
		return nil
	}
	p := f.Provider
	fmt.Fprintf(w, "  provider  %s\n", p.EntityID)
	if p.URL != "" {
		fmt.Fprintf(w, "  fetched   %s from %s\n", when(p.Fetched), p.URL)
	}
	if p.FetchFailure != "" {
		fmt.Fprintf(w, "            NOT TAKEN: %s\n", p.FetchFailure)
	}
	if f.Offer != nil {
		fmt.Fprintf(w, "  offered   metadata to compare by %s\n", f.Offer.Compare)
	}
	for _, c := range p.Certificates {
		fmt.Fprintf(w, "  signs by  %s until %s\n", c.Fingerprint, c.Until.UTC().Format("2006-01-02"))
	}
	for _, test := range f.Tests {
		if test.State == "accepted" || test.State == "refused" {
			note := ""
			if !test.Counts {
				note = ", of another provider or other claims than now"
			}
			fmt.Fprintf(w, "  tested    %s: %s %s%s\n", test.Person.Login, test.State, when(test.Answered), note)
			break
		}
	}
	if len(f.Checks) == 0 || f.SignOn == "provider" {
		return nil
	}
	fmt.Fprintln(w, "\nFor everybody to sign in there:")
	return printVerdicts(w, f.Checks)
}

func newDomainDesktopsCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "desktops DOMAIN", Short: "Print what desktops and browsers need so that people sign in", Args: terminal.OneArgument("the domain"),
		Long:    "Prints names, ports, policies and keys as text for those who look after desktops, made for\nthis domain and its identity provider.",
		Example: "  kambrel domain desktops halvard.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Desktops, error) { return c.Desktops(ctx, args[0]) }, func(w io.Writer, desktops wire.Desktops) error {
				for i, section := range desktops.Sections {
					if i > 0 {
						fmt.Fprintln(w)
					}
					fmt.Fprintf(w, "%s\n  %s\n", section.Title, section.Why)
					for _, line := range section.Lines {
						fmt.Fprintf(w, "    %s\n", line)
					}
				}
				return nil
			})
		},
	}
}
