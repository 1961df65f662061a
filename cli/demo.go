package cli

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/demo"
)

func newDemoCommand() *cobra.Command {
	o := demo.Options{}
	command := &cobra.Command{
		Use: "demo", Short: "Run everything on this machine with made-up people", Args: noArguments,
		Long: `Starts PostgreSQL, a domain controller, the cloud stand-in, a service and an agent
on loopback, loads the people of Halvard Ferries, and syncs them. State is kept
in the folder, so that the next start goes on from there.

The domain controller needs root; without it the demo goes on with OpenLDAP.
Beside kambrel it needs kambrel-standin, as 'make build' makes both.`,
		Example: "  kambrel demo\n  kambrel demo --fresh\n  kambrel demo --once > summary.json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			program, err := os.Executable()
			if err != nil {
				return err
			}
			o.Program, o.Standin = program, filepath.Join(filepath.Dir(program), "kambrel-standin")
			if _, err := os.Stat(o.Standin); err != nil {
				return fmt.Errorf("the cloud stand-in is missing beside this program (%s): run 'make build'", o.Standin)
			}
			if o.PortsFrom < 1024 || o.PortsFrom > 65000 {
				return fmt.Errorf("--ports-from %d: give a number from 1024 to 65000", o.PortsFrom)
			}
			here, err := filepath.Abs(".")
			if err == nil {
				here, err = filepath.EvalSymlinks(here)
			}
			if err != nil {
				return err
			}
			release := func() {}
			o.Profile = func(service, token string) error {
				if beneath(here, checkout()) == nil {
					fmt.Fprintf(cmd.ErrOrStderr(), "Commands find this demo only beneath the checkout it was built in; elsewhere give --service %s and --token.\n", service)
					return nil
				}
				held, err := keepDemoProfile(Profile{Service: service, Token: token}, filepath.Join(here, DemoProfile))
				if err == nil {
					release = held
				}
				return err
			}
			defer func() { release() }()
			o.Out, o.Progress = cmd.OutOrStdout(), cmd.ErrOrStderr()
			return demo.Run(cmd.Context(), o)
		},
	}
	command.Flags().StringVar(&o.Dir, "dir", filepath.Join("var", "demo"), "folder for the state")
	command.Flags().BoolVar(&o.Fresh, "fresh", false, "start over: delete the folder's state first")
	command.Flags().BoolVar(&o.Once, "once", false, "stop after the first run and print a JSON summary")
	command.Flags().IntVar(&o.PortsFrom, "ports-from", 7600, "first port to use; the next free ones are taken")
	return command
}
