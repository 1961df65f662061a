package terminal

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"
)

// Status ends a program with an exit status; its text was shown already.
type Status int

func (s Status) Error() string { return fmt.Sprintf("exit status %d", int(s)) }

// Execute runs a command line until its end or a signal, and returns its exit status.
func Execute(root *cobra.Command) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return ExitStatus(root.ExecuteContext(ctx), root.ErrOrStderr())
}

// ExitStatus is how a command ends, 0 for well, and tells why where it does not.
func ExitStatus(err error, to io.Writer) int {
	var ended Status
	switch {
	case err == nil:
		return 0
	case errors.As(err, &ended):
		return int(ended)
	}
	fmt.Fprintln(to, "kambrel:", Clean(err.Error()))
	return 1
}
