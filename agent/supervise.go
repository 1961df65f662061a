package agent

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"kambrel.example/kambrel/core/logkey"
)

const (
	// beneath is set for a program that another one has started.
	beneath = "KAMBREL_AGENT_BENEATH"
	// trialTime is for how long a new program that falls over shows that it is no good.
	trialTime = 10 * time.Minute
	// endWithin is how long a program has to end when it is told to.
	endWithin = 35 * time.Second
)

// What a program tells the one that has started it, a line for each.
const (
	wordReported = "reported" // the service has heard of it
	wordNewer    = "newer"    // one that is newer still lies there
)

// RunNewest runs the agent of a configuration file until ctx ends: by the newest program that
// was taken from the service, or here where there is none. A new one that does not report to the
// service within a minute, or falls over in its first ten, is ended and not run again; the one
// before goes on. arguments are those by which another program runs the same.
func RunNewest(ctx context.Context, file, version string, arguments []string) error {
	if os.Getenv(beneath) != "" {
		config, err := Load(file)
		if err != nil {
			return err
		}
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		go func() { // what has started this one holds the other end as long as it lives
			_, _ = io.Copy(io.Discard, os.Stdin)
			cancel()
		}()
		err = runHere(ctx, config, file, version, func() { fmt.Fprintln(os.Stdout, wordReported) })
		if errors.Is(err, errNewer) {
			fmt.Fprintln(os.Stdout, wordNewer)
			return nil
		}
		return err
	}
	kept := programsOf(file)
	for {
		config, err := Load(file)
		if err != nil {
			return err
		}
		key, taken, err := config.Updates.key()
		if err != nil {
			return err
		}
		newest, found := program{}, false
		if taken {
			newest, found = kept.newest(key, version)
		}
		if !found {
			if err := runHere(ctx, config, file, version, func() {}); !errors.Is(err, errNewer) {
				return err
			}
			continue
		}
		debug.FreeOSMemory() // what was needed here is not any more
		newer, err := kept.run(ctx, newest, arguments)
		var noGood failure
		switch {
		case errors.As(err, &noGood):
			slog.Error("the newer program is no good: the one before goes on", logkey.Version, newest.version, logkey.Error, err)
			kept.fail(newest.version, err.Error())
		case !newer || err != nil || ctx.Err() != nil:
			return err
		}
	}
}

// runHere runs the agent in this process.
func runHere(ctx context.Context, config Config, file, version string, reported func()) error {
	a, err := New(config, file, version)
	if err != nil {
		return err
	}
	a.reported = reported
	return a.Run(ctx)
}

// failure is why a program is not to be run again.
type failure struct{ why string }

func (f failure) Error() string { return f.why }

// run runs a program to its end; newer tells that one lies there that is to go on. It is a
// failure when it does not report in time, or falls over.
func (p programs) run(ctx context.Context, one program, arguments []string) (newer bool, err error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	command := exec.CommandContext(ctx, one.file, arguments...)
	command.Env = append(os.Environ(), beneath+"="+one.version)
	command.Stderr = os.Stderr
	command.Cancel = func() error {
		if err := command.Process.Signal(os.Interrupt); err != nil { // as on Windows
			return command.Process.Kill()
		}
		return nil
	}
	command.WaitDelay = endWithin
	said, err := command.StdoutPipe()
	if err != nil {
		return false, err
	}
	life, err := command.StdinPipe()
	if err != nil {
		return false, err
	}
	defer life.Close()
	began := time.Now()
	if err := command.Start(); err != nil {
		return false, failure{fmt.Sprintf("it does not start: %s", err)}
	}
	slog.Info("running", logkey.Version, one.version)
	late := time.AfterFunc(p.reportWithin, func() { cancel(failure{fmt.Sprintf("it did not report to the service within %s", p.reportWithin)}) })
	defer late.Stop()
	if one.proven {
		late.Stop()
	}
	newer, err = p.hear(said, one, late)
	ended := errors.Join(err, command.Wait())
	var noGood failure
	switch {
	case errors.As(context.Cause(ctx), &noGood):
		return false, noGood
	case ctx.Err() != nil:
		return false, nil
	case newer:
		return true, nil
	case ended == nil:
		return false, nil
	}
	// Status 1 is a program that says why it ends, as an agent that was retired; others fell over.
	var exit *exec.ExitError
	says := errors.As(ended, &exit) && exit.ExitCode() == 1
	if !one.proven && time.Since(began) < trialTime && !(says && there(filepath.Join(p.of(one.version), provenFile))) {
		return false, failure{fmt.Sprintf("it ended after %s: %s", time.Since(began).Round(time.Millisecond), ended)}
	}
	return false, fmt.Errorf("program %s ended: %w", one.version, ended)
}

// hear reads what a program says until it ends.
func (p programs) hear(from io.Reader, one program, late *time.Timer) (newer bool, err error) {
	lines := bufio.NewScanner(from)
	for lines.Scan() {
		switch strings.TrimSpace(lines.Text()) {
		case wordReported:
			late.Stop()
			err = errors.Join(err, p.prove(one.version))
		case wordNewer:
			newer = true
		}
	}
	return newer, errors.Join(err, lines.Err())
}
