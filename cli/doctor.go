package cli

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"time"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/version"
	"kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
)

func newDoctorCommand(d *deps) *cobra.Command {
	var pack string
	command := &cobra.Command{
		Use: "doctor", Short: "Look at the whole installation, with advice", Args: terminal.NoArguments,
		Long: `Looks at the installation step by step: service and clocks, certificates, database,
backups, settings and guard, agents, runs, operators, tokens and notices; has an agent
try each directory, and the service the cloud. Each thing that is not well comes with
what to do. It changes nothing and needs the role administrator.

With --pack it also writes what somebody who helps you needs: the same findings, the
state of everything, runs, problems by kind and how often, and the settings. Passwords,
tokens and keys are not in it, as they are in no answer of the service, and no names
of people but what the settings name.

Where the service does not answer, 'kambrel serve --check --config FILE' looks at what
it needs on its host. Exit status 2 where something is bad.`,
		Example: "  kambrel doctor\n  kambrel doctor --pack kambrel-support.zip",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			found, err := checkup(cmd.Context(), c)
			if err != nil {
				return err
			}
			if pack != "" {
				if err := packUp(cmd.Context(), c, found, pack); err != nil {
					return err
				}
			}
			if err := d.print(cmd.OutOrStdout(), found, func(w io.Writer) error {
				if err := printVerdicts(w, found.Steps); err != nil {
					return err
				}
				counts := map[string]int{}
				for _, step := range found.Steps {
					counts[step.Outcome]++
				}
				fmt.Fprintf(w, "\n%d bad, %d doubtful, %d well.\n", counts["bad"], counts["doubtful"], counts["good"])
				if pack != "" {
					fmt.Fprintf(w, "%s holds what support needs; look into it before you pass it on.\n", pack)
				}
				return nil
			}); err != nil {
				return err
			}
			if found.Outcome == "bad" {
				return statusError(statusProblems)
			}
			return nil
		},
	}
	command.Flags().StringVar(&pack, "pack", "", "file to write for support (.zip), which must not be there yet")
	return command
}

// clocksApart is how far the clocks of service and command may be apart.
const clocksApart = 5 * time.Second

// checkup has the service look at everything, and puts before it what only this side sees.
func checkup(ctx context.Context, c *client.Client) (wire.Checkup, error) {
	began := time.Now()
	found, err := c.Checkup(ctx)
	if err != nil {
		return found, err
	}
	service := orders.Verdict{Step: "service", Outcome: "good", Detail: "version " + found.Version + " answers"}
	if found.Version != version.Number {
		service.Outcome, service.Detail = "doubtful", service.Detail+"; this command is of "+version.Number
		service.Advice = "Bring both to the same version."
	}
	clocks := orders.Verdict{Step: "clocks", Outcome: "good", Detail: "agree"}
	if apart := apartFrom(found.At, began, time.Now()); apart > clocksApart {
		clocks.Outcome, clocks.Detail = "doubtful", "those of the service and of this host are "+apart.Round(time.Second).String()+" apart"
		clocks.Advice = "Keep both by NTP: signatures of agents hold half a minute, and certificates by the day."
	}
	found.Steps = append([]orders.Verdict{service, clocks}, found.Steps...)
	if found.Outcome == "good" && (service.Outcome == "doubtful" || clocks.Outcome == "doubtful") {
		found.Outcome = "doubtful"
	}
	return found, nil
}

// apartFrom is how far a moment that another clock tells lies outside a span of this one.
func apartFrom(told, from, to time.Time) time.Duration {
	return max(from.Sub(told), told.Sub(to), 0)
}

// packUp writes what somebody needs who helps.
func packUp(ctx context.Context, c *client.Client, found wire.Checkup, file string) error {
	health, err := c.Health(ctx)
	if err != nil {
		return err
	}
	for i := range health.Attention { // the details may name people
		health.Attention[i].Detail = ""
	}
	runs, err := c.Runs(ctx, url.Values{"limit": {"50"}})
	if err != nil {
		return err
	}
	groups, err := c.ProblemGroups(ctx)
	if err != nil {
		return err
	}
	trend, err := c.Trend(ctx, 30)
	if err != nil {
		return err
	}
	active, err := c.Settings(ctx)
	if err != nil {
		var refusal *client.Error
		if !errors.As(err, &refusal) {
			return err
		}
	}
	out, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("write for support: %w", err)
	}
	packed := zip.NewWriter(out)
	for name, value := range map[string]any{"doctor.json": found, "health.json": health, "runs.json": runs.Items, "problems.json": groups, "trend.json": trend, "settings.json": active} {
		if err := addJSON(packed, name, value); err != nil {
			return errors.Join(err, out.Close(), os.Remove(file))
		}
	}
	return errors.Join(packed.Close(), out.Close())
}

func addJSON(packed *zip.Writer, name string, value any) error {
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(value); err != nil {
		return err
	}
	to, err := packed.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: time.Now()})
	if err == nil {
		_, err = to.Write(text.Bytes())
	}
	return err
}
