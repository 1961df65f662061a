package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
)

func newDomainCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "domain", Short: "Login domains: who uses them, and how people sign in"}
	command.AddCommand(newDomainListCommand(d), newDomainShowCommand(d), newDomainMetadataCommand(d), newDomainProviderCommand(d), newDomainClaimsCommand(d), newDomainTestCommand(d), newDomainSignInCommand(d), newDomainDesktopsCommand(d))
	return command
}

func newDomainListCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List login domains with who uses them", Args: terminal.NoArguments,
		Long: `Lists the domains that the cloud lists or the settings name, and those in which people
have logins or would have: whether they are verified, how many people use them, how many
of those sign in with the directory's password (by a digest) and how many with one of
the cloud's own, and how many entries wait because it is not verified.`,
		Example: "  kambrel domain list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.LoginDomains, error) { return c.Domains(ctx) }, func(w io.Writer, domains wire.LoginDomains) error {
				t := newTable("DOMAIN", "VERIFIED", "SIGN-IN", "PEOPLE", "LINKED", "DIRECTORY'S PASSWORD", "CLOUD'S OWN", "WAIT")
				for _, one := range domains.Items {
					t.add(or(one.Name, "(no domain)"), verifiedText(one), map[string]string{"password": "password", "some": "some at a provider", "provider": "provider"}[one.SignOn], one.People, one.Linked, one.Digests, one.Linked-one.Digests, one.Waiting)
				}
				if err := t.print(w); err != nil {
					return err
				}
				printDomainsNote(w, domains)
				for _, one := range domains.Items {
					if one.Waiting > 0 {
						fmt.Fprintf(w, "\n%d wait for %s: 'kambrel domain show %s' says what to do.\n", one.Waiting, or(one.Name, "a domain in their login"), one.Name)
					}
				}
				return nil
			})
		},
	}
}

func printDomainsNote(w io.Writer, domains wire.LoginDomains) {
	if domains.Away != "" {
		fmt.Fprintf(w, "\nWhich are verified is not known now: %s\n", domains.Away)
	}
	if domains.Looked < domains.Of {
		fmt.Fprintf(w, "\nEstimated from %d of %d people.\n", domains.Looked, domains.Of)
	}
}

func verifiedText(d wire.LoginDomain) string {
	return map[string]string{wire.DomainVerified: "yes", wire.DomainUnverified: "NO", wire.DomainUnknown: "unknown"}[d.Verified]
}

// shownDomain is all that is told of a domain.
type shownDomain struct {
	wire.LoginDomain
	SignIn *wire.Federation `json:"signIn,omitempty"`
}

// withSignIn adds how people sign in, where the cloud lists the domain.
func withSignIn(ctx context.Context, c *client.Client, one wire.LoginDomain) (shownDomain, error) {
	if one.Name == "" {
		return shownDomain{LoginDomain: one}, nil
	}
	federation, err := c.Federation(ctx, one.Name)
	if problem.CodeOf(err) == problem.NotFound {
		return shownDomain{LoginDomain: one}, nil
	}
	return shownDomain{one, &federation}, err
}

func newDomainShowCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "show DOMAIN", Short: "Show a login domain, and what to do where it is not verified", Args: terminal.OneArgument("the domain"),
		Example: "  kambrel domain show corp.halvard.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			var all wire.LoginDomains
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (shownDomain, error) {
				var err error
				if all, err = c.Domains(ctx); err != nil {
					return shownDomain{}, err
				}
				names := make([]string, len(all.Items))
				for i, one := range all.Items {
					if strings.EqualFold(one.Name, args[0]) {
						return withSignIn(ctx, c, one)
					}
					names[i] = one.Name
				}
				return shownDomain{}, fmt.Errorf("nobody has or would have a login in %s, and the cloud does not list it; there are %s", args[0], or(strings.Join(names, ", "), "none"))
			}, func(w io.Writer, one shownDomain) error {
				people, signIn := "nobody in the cloud", "-"
				if one.People > 0 {
					people = fmt.Sprintf("%d in the cloud, %d of them suspended, %d linked to an entry", one.People, one.People-one.Active, one.Linked)
				}
				if one.Linked > 0 {
					signIn = fmt.Sprintf("%d with the directory's password, by a digest; %d with a password of the cloud's own", one.Digests, one.Linked-one.Digests)
				}
				fmt.Fprintf(w, "%s\n  verified  %s%s\n  people    %s\n  password  %s\n  waiting   %d entries\n",
					one.Name, verifiedText(one.LoginDomain), map[string]string{"cloud": ", says the cloud", "settings": ", say the settings"}[all.From], people, signIn, one.Waiting)
				if one.SignIn != nil {
					if err := printFederation(w, *one.SignIn); err != nil {
						return err
					}
				}
				printDomainsNote(w, all)
				if one.Verified == wire.DomainUnverified && one.Verification != "" {
					fmt.Fprintf(w, "\nTo verify it, the cloud says: %s\n", one.Verification)
				}
				if one.Waiting > 0 {
					fmt.Fprintf(w, "\nWho waits: 'kambrel problems list --code login-suffix-not-verified'. Verify the domain in the cloud and run\nonce more, or give them logins in another: 'kambrel survey run' proposes them, or a rule makes them.\n")
				}
				return nil
			})
		},
	}
}
