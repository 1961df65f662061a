package onhost

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/agent"
	"kambrel.example/kambrel/cli/terminal"
)

func updatesCommand() *cobra.Command {
	var file, key string
	var off bool
	command := &cobra.Command{
		Use: "allow-updates", Short: "Let this host's agent take newer programs from the service, or no longer", Args: terminal.NoArguments,
		Long: `Pins the key by which programs of the agent are signed. From then on an
administrator can have the service pass a newer one on, and the agent takes what is
signed by this key, is made for this host and is newer than what runs: nothing else,
and not even the service can make it run another. Compare the thumbprint with that
which 'kambrel agent release key' has printed. Without a key none is taken, which is
how it begins; --off goes back to that, and the next start to the program that is
installed here. An agent that runs takes this up at once.`,
		Example: "  kambrel agent allow-updates --key release.pub.jwk\n  kambrel agent allow-updates --off",
		RunE: func(cmd *cobra.Command, _ []string) error {
			config, err := agent.Load(file)
			if err != nil {
				return err
			}
			if off {
				config.Updates = nil
				if err := config.Save(file); err != nil {
					return err
				}
				_, err = fmt.Fprintln(cmd.OutOrStdout(), "The agent takes no programs from the service.")
				return err
			}
			text, err := os.ReadFile(key)
			if err != nil {
				return err
			}
			print, err := config.AllowUpdates(text)
			if err != nil {
				return fmt.Errorf("%s: %w", key, err)
			}
			if err := config.Save(file); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "The agent takes newer programs that are signed by\n  %s\nCompare the thumbprint (RFC 7638) with that of the release key.\n", print)
			return err
		},
	}
	command.Flags().StringVar(&key, "key", "", "file with the public half of the release key, as a JWK")
	command.Flags().BoolVar(&off, "off", false, "take none any more")
	command.Flags().StringVar(&file, "config", agent.DefaultFile(), "the agent's configuration file")
	command.MarkFlagsMutuallyExclusive("key", "off")
	command.MarkFlagsOneRequired("key", "off")
	return command
}
