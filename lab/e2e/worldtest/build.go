package worldtest

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"testing"

	"kambrel.example/kambrel/lab/servers"
)

// root is the checkout as a package of tests sees it.
const root = "../../.."

// Programs are kambrel and kambrel-lab as built for all tests.
type Programs struct{ Kambrel, Lab string }

// Raced are those with the race detector, for worlds in which much goes on side by
// side; Plainly are those for all others.
var Raced, Plainly Programs

// Main builds the programs, once for all packages, and runs the tests of one.
func Main(m *testing.M) {
	dir, err := os.MkdirTemp("", "kambrel-e2e-")
	if err == nil {
		// As in a checkout, whose programs lie in bin; readable for PostgreSQL, since
		// demos run beneath it.
		err = os.Chmod(dir, 0o755)
	}
	if err == nil {
		Plainly, err = programs(dir, "plain")
	}
	if err == nil {
		Raced, err = programs(filepath.Join(dir, "race"), "race", "-race")
	}
	// The race detector lets each program wait a second at its end, in which
	// nothing is found that the logs do not have.
	_ = os.Setenv("GORACE", "atexit_sleep_ms=0")
	status := 1
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
	} else {
		status = m.Run()
	}
	_ = removePattern()
	_ = servers.RemovePattern()
	_ = os.RemoveAll(dir)
	os.Exit(status)
}

// programs builds both programs, unless another package has done so, and gives this
// one copies of its own.
func programs(dir, name string, flags ...string) (Programs, error) {
	built := filepath.Join(root, "bin", "e2e", name)
	if err := os.MkdirAll(built, 0o755); err != nil {
		return Programs{}, err
	}
	lock, err := os.Create(built + ".lock")
	if err != nil {
		return Programs{}, err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return Programs{}, fmt.Errorf("wait for the programs to be built: %w", err)
	}
	build := exec.Command("go", slices.Concat([]string{"build", "-trimpath"}, flags, []string{"-o", built + "/", root + "/cmd/..."})...)
	cgo := "CGO_ENABLED=0"
	if slices.Contains(flags, "-race") { // which is in C
		cgo = "CGO_ENABLED=1"
	}
	build.Env = append(os.Environ(), cgo)
	if out, err := build.CombinedOutput(); err != nil {
		return Programs{}, fmt.Errorf("build the programs: %w\n%s", err, out)
	}
	own := Programs{filepath.Join(dir, "bin", "kambrel"), filepath.Join(dir, "bin", "kambrel-lab")}
	if err := os.MkdirAll(filepath.Join(dir, "bin"), 0o755); err != nil {
		return own, err
	}
	for _, path := range []string{own.Kambrel, own.Lab} {
		if err := linkOrCopy(filepath.Join(built, filepath.Base(path)), path); err != nil {
			return own, err
		}
	}
	return own, nil
}

// linkOrCopy copies a program where it cannot be linked.
func linkOrCopy(from, to string) error {
	if err := os.Link(from, to); err == nil || errors.Is(err, fs.ErrExist) {
		return err
	}
	source, err := os.Open(from)
	if err != nil {
		return err
	}
	defer source.Close()
	target, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o755)
	if err != nil {
		return err
	}
	_, err = io.Copy(target, source)
	return errors.Join(err, target.Close())
}

// Checkout is a folder that lies in those that stand for the ones in which the
// programs were built.
func Checkout() string { return filepath.Dir(filepath.Dir(Raced.Kambrel)) }
