// Command kambrel-lab is what shows and tries Kambrel and is no part of it: the
// demo, and a cloud to work against.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/lab/demo"
	"kambrel.example/kambrel/lab/mailsink"
	"kambrel.example/kambrel/lab/standin"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := &cobra.Command{
		Use: "kambrel-lab", Short: "Everything on loopback to show and try Kambrel with",
		SilenceUsage: true, SilenceErrors: true,
	}
	root.AddCommand(demo.NewCommand(), standin.NewCommand(), mailsink.NewCommand())
	if err := root.ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "kambrel-lab:", err)
		os.Exit(1)
	}
}
