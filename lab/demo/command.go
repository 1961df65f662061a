package demo

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli"
)

// NewCommand builds the command that runs the demo.
func NewCommand() *cobra.Command {
	o := Options{}
	command := &cobra.Command{
		Use: "demo", Short: "Run everything on this machine with made-up people", Args: cobra.NoArgs,
		Long: `Starts PostgreSQL, a domain controller, the cloud stand-in, a service and an agent
on loopback, loads the people of Halvard Ferries, and syncs them. State is kept
in the folder, so that the next start goes on from there.

The domain controller needs root; without it the demo goes on with OpenLDAP.
Beside kambrel-lab it needs kambrel, as 'make build' makes both.`,
		Example: "  kambrel-lab demo\n  kambrel-lab demo --fresh\n  kambrel-lab demo --once > summary.json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			lab, err := os.Executable()
			if err != nil {
				return err
			}
			o.Lab, o.Program = lab, filepath.Join(filepath.Dir(lab), "kambrel")
			if _, err := os.Stat(o.Program); err != nil {
				return fmt.Errorf("kambrel is missing beside this program (%s): run 'make build'", o.Program)
			}
			if o.PortsFrom < 1024 || o.PortsFrom > 65000 {
				return fmt.Errorf("--ports-from %d: give a number from 1024 to 65000", o.PortsFrom)
			}
			release := func() {}
			defer func() { release() }()
			o.Profile = func(service, token string) error {
				held, err := cli.KeepDemoProfile(cli.Profile{Service: service, Token: token})
				if err == nil && held == nil {
					fmt.Fprintf(cmd.ErrOrStderr(), "Commands find this demo only beneath the checkout it was built in; elsewhere give --service %s and --token.\n", service)
				} else if err == nil {
					release = held
				}
				return err
			}
			o.Out, o.Progress = cmd.OutOrStdout(), cmd.ErrOrStderr()
			return Run(cmd.Context(), o)
		},
	}
	command.Flags().StringVar(&o.Dir, "dir", filepath.Join("var", "demo"), "folder for the state")
	command.Flags().BoolVar(&o.Fresh, "fresh", false, "start over: delete the folder's state first")
	command.Flags().BoolVar(&o.Once, "once", false, "stop after the first run and print a JSON summary")
	command.Flags().BoolVar(&o.ByHand, "by-hand", false, "let changes in the directories wait for a sync, instead of watching them")
	command.Flags().IntVar(&o.PortsFrom, "ports-from", 7600, "first port to use; the next free ones are taken")
	return command
}
