package worldtest

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Kambrel runs the command line and returns what it printed and its status.
func (w *World) Kambrel(args ...string) (string, string, int) {
	w.T.Helper()
	return Kambrel(w.T, append(args, "--service", w.URL, "--token", w.Client.Token())...)
}

func Kambrel(t *testing.T, args ...string) (stdout, stderr string, status int) {
	t.Helper()
	return KambrelIn(t, t.TempDir(), "", args...)
}

// KambrelIn runs the command line of somebody with a home and an input.
func KambrelIn(t *testing.T, home, input string, args ...string) (stdout, stderr string, status int) {
	t.Helper()
	return KambrelWith(t, home, home, input, nil, args...)
}

// KambrelWith runs it in a folder with more in the environment.
func KambrelWith(t *testing.T, home, folder, input string, env []string, args ...string) (stdout, stderr string, status int) {
	t.Helper()
	var out, errs bytes.Buffer
	command := exec.Command(Plainly.Kambrel, args...)
	command.Dir, command.Stdin = folder, strings.NewReader(input)
	command.Env = append(append(os.Environ(), "XDG_CONFIG_HOME="+home), env...)
	command.Stdout, command.Stderr = &out, &errs
	err := command.Run()
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		t.Fatal(err)
	}
	return out.String(), errs.String(), command.ProcessState.ExitCode()
}

// Says runs a command that must end well, and asks that its output holds texts.
func (w *World) Says(command []string, texts ...string) string {
	w.T.Helper()
	out, stderr, status := w.Kambrel(command...)
	require.Zero(w.T, status, "kambrel %s: %s%s", strings.Join(command, " "), out, stderr)
	for _, text := range texts {
		assert.Contains(w.T, out, text, "kambrel %s", strings.Join(command, " "))
	}
	return out
}

// Refuses runs a command that must fail, saying why.
func (w *World) Refuses(command []string, texts ...string) {
	w.T.Helper()
	out, stderr, status := w.Kambrel(command...)
	assert.Equal(w.T, 1, status, "kambrel %s: %s", strings.Join(command, " "), out)
	for _, text := range texts {
		assert.Contains(w.T, stderr, text, "kambrel %s", strings.Join(command, " "))
	}
}

// Reads decodes what a command prints as JSON.
func Reads[T any](w *World, command ...string) T {
	w.T.Helper()
	var value T
	require.NoError(w.T, json.Unmarshal([]byte(w.Says(append(command, "-o", "json"))), &value))
	return value
}
