package onhost

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/agent"
	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/core/address"
	"kambrel.example/kambrel/core/problem"
)

// mostKeys is the longest JWK set that is read, in bytes.
const mostKeys = 1 << 20

func trustCommand() *cobra.Command {
	var file, issuer, audience, keys string
	command := &cobra.Command{
		Use: "trust", Short: "Pin the keys of the cloud whose events about passwords this agent carries out", Args: terminal.NoArguments,
		Long: `Writes the cloud's public keys into the agent's configuration. From then on the agent
carries out what events ask for that are signed by one of them, and nothing else: not
even the service can make it set a password. Compare the thumbprints with those that
the cloud's administrator tells you. When the cloud changes its keys, run it again.`,
		Example: "  kambrel agent trust --issuer https://cloud.halvard.example --keys https://cloud.halvard.example/.well-known/jwks.json\n  kambrel agent trust --issuer https://cloud.halvard.example --keys cloud-keys.json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			config, err := agent.Load(file)
			if err != nil {
				return err
			}
			text, err := readKeys(cmd.Context(), keys)
			if err != nil {
				return err
			}
			trusted, prints, err := agent.Trust(issuer, audience, text)
			if err != nil {
				return err
			}
			config.Cloud = &trusted
			if err := config.Save(file); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "The agent carries out events of %s that are signed by:\n", issuer)
			for _, print := range prints {
				fmt.Fprintf(cmd.OutOrStdout(), "  %s\n", print)
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "Compare the thumbprints (RFC 7638) with the cloud's administrator. In return give them\nwhat 'kambrel agent key --config %s' prints.\n", file)
			return err
		},
	}
	flags := command.Flags()
	flags.StringVar(&issuer, "issuer", "", "the issuer that stands in the cloud's events")
	flags.StringVar(&audience, "audience", "", "for whom events must be; by default for anybody")
	flags.StringVar(&keys, "keys", "", "file with the cloud's JWK set, or its https address")
	flags.StringVar(&file, "config", agent.DefaultFile(), "the agent's configuration file")
	_ = command.MarkFlagRequired("issuer")
	_ = command.MarkFlagRequired("keys")
	return command
}

// readKeys reads a JWK set from a file or from where it is published.
func readKeys(ctx context.Context, from string) ([]byte, error) {
	if !strings.Contains(from, "://") {
		return os.ReadFile(from)
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, from, nil)
	if err != nil {
		return nil, problem.New(problem.BadInput, "%s is no address", from)
	}
	if request.URL.Scheme != "https" && !(request.URL.Scheme == "http" && address.Loopback(request.URL.Hostname())) {
		return nil, problem.New(problem.BadInput, "%s: keys that are to be trusted come by https, or from a file", from)
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return nil, fmt.Errorf("read the cloud's keys: %w", err)
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("read the cloud's keys: %s answers %s", from, response.Status)
	}
	return io.ReadAll(io.LimitReader(response.Body, mostKeys))
}

func keyCommand() *cobra.Command {
	var file string
	var rotate bool
	command := &cobra.Command{
		Use: "key", Short: "Print by which thumbprint the cloud knows this agent, and its key for passwords", Args: terminal.NoArguments,
		Long: `The cloud seals passwords for an agent once its administrator has let the agent's
identity in. The agent signs its key for passwords with that identity, so that nobody
between them can put another key in its place. A new key is made every 30 days;
--rotate makes one now, which a running agent takes up within seconds.`,
		Example: "  kambrel agent key\n  kambrel agent key --rotate",
		RunE: func(cmd *cobra.Command, _ []string) error {
			config, err := agent.Load(file)
			if err != nil {
				return err
			}
			identity, key, made, err := agent.Keys(config, file, rotate)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "Identity           %s\nKey for passwords  %s, made %s\n\nThe identity is what the cloud's administrator lets in.\n", identity, key, made.Local().Format("2006-01-02 15:04"))
			return err
		},
	}
	command.Flags().BoolVar(&rotate, "rotate", false, "make a new key for passwords")
	command.Flags().StringVar(&file, "config", agent.DefaultFile(), "the agent's configuration file")
	return command
}
