package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/signin"
	"kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
)

func newDomainMetadataCommand(d *deps) *cobra.Command {
	var out string
	command := &cobra.Command{
		Use: "metadata DOMAIN", Short: "Print the cloud's SAML metadata, to give to the identity provider", Args: terminal.OneArgument("the domain"),
		Example: "  kambrel domain metadata brisling.example --out cloud.xml",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			federation, err := c.Federation(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			switch {
			case federation.Away != "":
				return fmt.Errorf("the cloud cannot be asked: %s", federation.Away)
			case federation.Cloud == nil:
				return fmt.Errorf("the cloud does not give its metadata by its interface: fetch it from the cloud's own console")
			case out == "":
				_, err = io.WriteString(cmd.OutOrStdout(), federation.Cloud.Metadata)
				return err
			}
			if err := os.WriteFile(out, []byte(federation.Cloud.Metadata), 0o644); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s holds the metadata of %s. Give it to the administrators of the identity provider.\n", out, federation.Cloud.EntityID)
			return err
		},
	}
	command.Flags().StringVar(&out, "out", "", "file to write it to; by default it is printed")
	return command
}

func newDomainProviderCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "provider", Short: "The identity provider of a login domain"}
	command.AddCommand(newProviderTryCommand(d), newProviderSetCommand(d), newProviderOwnCommand(d), newProviderRenewCommand(d),
		newProviderActCommand(d, "refresh", "Fetch the provider's metadata anew, as happens every six hours by itself", (*client.Client).RefreshProvider),
		newProviderActCommand(d, "remove", "Forget the identity provider of a domain where nobody signs in", (*client.Client).RemoveProvider))
	return command
}

// providerFlags are where metadata is, and why it is believed.
type providerFlags struct {
	file string
	in   wire.ProviderMetadata
}

func (f *providerFlags) add(command *cobra.Command) {
	command.Flags().StringVar(&f.file, "metadata", "", "file with the provider's SAML metadata; - for standard input")
	command.Flags().StringVar(&f.in.URL, "url", "", "where to fetch it, now and every six hours")
	command.Flags().StringVar(&f.in.Fingerprint, "fingerprint", "", "SHA-256 of the certificate that you have compared with what the provider's administrators say")
	command.Flags().BoolVar(&f.in.Unsigned, "unsigned", false, "take metadata that is not signed, for the certificate that was compared")
	command.MarkFlagsOneRequired("metadata", "url")
	command.MarkFlagsMutuallyExclusive("metadata", "url")
}

func (f *providerFlags) read(cmd *cobra.Command) (wire.ProviderMetadata, error) {
	in := f.in
	if f.file != "" {
		text, err := terminal.ReadFile(cmd, f.file)
		if err != nil {
			return in, err
		}
		in.Metadata = string(text)
	}
	return in, nil
}

func newProviderTryCommand(d *deps) *cobra.Command {
	var flags providerFlags
	command := &cobra.Command{
		Use: "try DOMAIN", Short: "Look at an identity provider's metadata, and change nothing", Args: terminal.OneArgument("the domain"),
		Long: `Reads SAML 2.0 metadata and says of each thing that matters how it stands: whose it is,
by whose key it is signed, until when it and its certificates are valid, where people
would sign in. Exit status 2 says that it would not be believed as it is.`,
		Example: "  kambrel domain provider try brisling.example --metadata provider.xml\n  kambrel domain provider try brisling.example --url https://login.brisling.example/metadata",
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := flags.read(cmd)
			if err != nil {
				return err
			}
			var provider wire.IdentityProvider
			if err := ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.IdentityProvider, error) {
				provider, err = c.TryProvider(ctx, args[0], in)
				return provider, err
			}, func(w io.Writer, p wire.IdentityProvider) error {
				if err := printVerdicts(w, p.Verdicts); err != nil {
					return err
				}
				_, err := fmt.Fprintf(w, "\nTo compare:  %s\n", p.Compare)
				return err
			}); err != nil {
				return err
			}
			if slices.ContainsFunc(provider.Verdicts, func(v orders.Verdict) bool { return v.Outcome == "bad" }) {
				return statusError(statusProblems)
			}
			return nil
		},
	}
	flags.add(command)
	return command
}

func newProviderSetCommand(d *deps) *cobra.Command {
	var flags providerFlags
	command := &cobra.Command{
		Use: "set DOMAIN", Short: "Believe an identity provider's metadata for a domain", Args: terminal.OneArgument("the domain"),
		Long: `Keeps an identity provider for a domain. Nobody's sign-in changes by it until
'kambrel domain sign-in'. Metadata is believed for the fingerprint that you have compared,
by another way than the file itself, with what the provider's administrators say: that of
the certificate by which the metadata is signed. What is signed by it and comes from a URL
is taken by itself later, with new certificates. Where a provider does not sign its
metadata, compare the certificate by which its assertions are signed, and say --unsigned;
each new certificate must then be given again.`,
		Example: "  kambrel domain provider set brisling.example --url https://login.brisling.example/metadata --fingerprint 5f1c...\n  kambrel domain provider set brisling.example --metadata provider.xml --unsigned --fingerprint 5f1c...",
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := flags.read(cmd)
			if err != nil {
				return err
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Federation, error) {
				return c.SetProvider(ctx, args[0], in)
			}, printFederation)
		},
	}
	flags.add(command)
	return command
}

func newProviderOwnCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "own DOMAIN", Short: "Have Kambrel itself be the identity provider of a domain", Args: terminal.OneArgument("the domain"),
		Long: `For organizations that have no sign-in service: people sign in at this service with the
password of their directory, which an agent tries there, or with a ticket of their domain
controller (--kerberos-keytab of 'kambrel serve'). Nobody's sign-in changes by it until
'kambrel domain sign-in'. The key by which assertions are signed is made when this is said
first, kept sealed by the key of the service's host, and renewed by itself.`,
		Example: "  kambrel domain provider own brisling.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Federation, error) {
				return c.SetOwnProvider(ctx, args[0])
			}, printFederation)
		},
	}
}

func newProviderRenewCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "renew", Short: "Make the next key of Kambrel's own identity provider", Args: terminal.NoArguments,
		Long:    "Makes the next key now; by itself that happens 60 days before the end. Its certificate is told\nto the cloud beside the one before, and only then anything is signed by it.",
		Example: "  kambrel domain provider renew",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			if err := c.RenewOwnProvider(cmd.Context()); err != nil {
				return err
			}
			_, err = fmt.Fprintln(cmd.OutOrStdout(), "The next key is made; it is used as soon as the cloud has its certificate.")
			return err
		},
	}
}

func newProviderActCommand(d *deps, name, short string, act func(*client.Client, context.Context, string) (wire.Federation, error)) *cobra.Command {
	return &cobra.Command{
		Use: name + " DOMAIN", Short: short, Args: terminal.OneArgument("the domain"), Example: "  kambrel domain provider " + name + " brisling.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Federation, error) { return act(c, ctx, args[0]) }, printFederation)
		},
	}
}

func newDomainClaimsCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "claims", Short: "What an assertion says of people"}
	command.AddCommand(newClaimsShowCommand(d), newClaimsSetCommand(d), newClaimsResetCommand(d), newClaimsTryCommand(d))
	return command
}

func newClaimsShowCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "show DOMAIN", Short: "Show what an assertion says of people", Args: terminal.OneArgument("the domain"),
		Long:    "Shows how the subject and each claim of an assertion are made of the person's resource in the\ncloud. With -o yaml it is the file that 'kambrel domain claims set' takes.",
		Example: "  kambrel domain claims show brisling.example\n  kambrel domain claims show brisling.example -o yaml > claims.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			isDefault := false
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (signin.Claims, error) {
				federation, err := c.Federation(ctx, args[0])
				isDefault = federation.Default
				return federation.Claims, err
			}, func(w io.Writer, claims signin.Claims) error {
				t := newTable("CLAIM", "MADE OF")
				t.add("subject ("+lastWord(claims.Format)+")", madeOf(claims.Subject))
				for _, one := range claims.Claims {
					t.add(one.Name, madeOf(one))
				}
				if err := t.print(w); err != nil || !isDefault {
					return err
				}
				_, err := fmt.Fprintln(w, "\nThese follow from what the cloud asks for; nobody has said otherwise.")
				return err
			})
		},
	}
}

func lastWord(urn string) string { return urn[strings.LastIndexByte(urn, ':')+1:] }

func madeOf(c signin.Claim) string {
	switch {
	case c.From != "":
		return "from " + c.From
	case c.Formula != "":
		return "formula " + c.Formula
	}
	return "always " + c.Always
}

func newClaimsSetCommand(d *deps) *cobra.Command {
	var file string
	command := &cobra.Command{
		Use: "set DOMAIN", Short: "Say what an assertion says of people", Args: terminal.OneArgument("the domain"),
		Example: "  kambrel domain claims set brisling.example --file claims.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := terminal.ReadFile(cmd, file)
			if err != nil {
				return err
			}
			var claims signin.Claims
			if err := yaml.UnmarshalWithOptions(text, &claims, yaml.Strict()); err != nil {
				return fmt.Errorf("%s: %w", file, err)
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Federation, error) {
				return c.SetClaims(ctx, args[0], &claims)
			}, printFederation)
		},
	}
	command.Flags().StringVar(&file, "file", "", "YAML file with the claims; - for standard input")
	_ = command.MarkFlagRequired("file")
	return command
}

func newClaimsResetCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "reset DOMAIN", Short: "Go back to the claims that follow from what the cloud asks for", Args: terminal.OneArgument("the domain"), Example: "  kambrel domain claims reset brisling.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Federation, error) {
				return c.SetClaims(ctx, args[0], nil)
			}, printFederation)
		},
	}
}

func newClaimsTryCommand(d *deps) *cobra.Command {
	var person, file string
	command := &cobra.Command{
		Use: "try DOMAIN", Short: "Tell what an assertion would have to say of somebody", Args: terminal.OneArgument("the domain"),
		Example: "  kambrel domain claims try brisling.example --person nils.aune@brisling.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			in := wire.TryClaims{Person: person}
			if file != "" {
				text, err := terminal.ReadFile(cmd, file)
				if err != nil {
					return err
				}
				in.Claims = &signin.Claims{}
				if err := yaml.UnmarshalWithOptions(text, in.Claims, yaml.Strict()); err != nil {
					return fmt.Errorf("%s: %w", file, err)
				}
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.TriedClaims, error) {
				return c.TryClaims(ctx, args[0], in)
			}, func(w io.Writer, tried wire.TriedClaims) error {
				fmt.Fprintf(w, "%s (%s)\n", tried.Person.Name, tried.Person.Login)
				return printFields(w, tried.Fields)
			})
		},
	}
	command.Flags().StringVar(&person, "person", "", "a login, a distinguished name or an id")
	command.Flags().StringVar(&file, "file", "", "other claims than those that are kept, as a YAML file")
	_ = command.MarkFlagRequired("person")
	return command
}

func printFields(w io.Writer, fields []signin.AssertionField) error {
	t := newTable("", "FIELD", "GOT", "EXPECTED")
	for _, f := range fields {
		got, expected := f.Got, f.Expected
		if f.Outcome == signin.Good && got == expected {
			expected = "the same"
		}
		t.add(verdictMarks[string(f.Outcome)], f.Name, or(got, "nothing"), expected)
		if f.Reason != "" {
			t.add("", "", "-> "+f.Reason, "")
		}
	}
	return t.print(w)
}
