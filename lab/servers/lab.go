package servers

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"kambrel.example/kambrel/service/certificates"
)

// Lab is a folder with the servers that run in it. Its methods may be called
// from several goroutines.
type Lab struct {
	// Dir holds all state; it is made if it is missing.
	Dir string
	// Log receives a line for each step; nil drops them.
	Log func(format string, facts ...any)
	// Many: this process starts many servers that are thrown away, so that they are
	// copied from one; see RemovePattern.
	Many bool
	// PostgresOptions are settings of PostgreSQL, as name=value, over those that labs have.
	PostgresOptions []string
	// Clocks are how far those of programs are ahead, by the names of the programs, which use
	// that of the host by the C library.
	Clocks map[string]time.Duration

	mu          sync.Mutex
	processes   []*Process
	certificate *certificates.Authority
	lock        *os.File
	held        []*os.File // locks on addresses
}

// New opens a lab in dir. A folder is used by one lab at a time.
func New(dir string) (*Lab, error) {
	absolute, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(absolute, 0o755); err != nil {
		return nil, err
	}
	lock, err := lockFile(filepath.Join(absolute, "lock"), false)
	if err != nil {
		return nil, fmt.Errorf("%s is in use by another lab: stop it, or choose another folder: %w", absolute, err)
	}
	l := &Lab{Dir: absolute, lock: lock}
	if l.certificate, err = certificates.OpenAuthority(filepath.Join(absolute, "tls"), "Kambrel lab"); err != nil {
		_ = unlock(lock)
		return nil, err
	}
	return l, nil
}

// Remove deletes a lab's folder with all it holds; no lab may be running there.
func Remove(dir string) error {
	absolute, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	if _, err := os.Stat(absolute); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	lock, err := lockFile(filepath.Join(absolute, "lock"), false)
	if err != nil {
		return fmt.Errorf("%s is in use by another lab: stop it first: %w", absolute, err)
	}
	defer unlock(lock)
	pidFiles, err := filepath.Glob(filepath.Join(absolute, "*.pid"))
	if err != nil {
		return err
	}
	for _, file := range pidFiles {
		endLeftover(file)
	}
	outside, err := os.ReadFile(filepath.Join(absolute, "postgres.folder"))
	if err == nil && strings.HasPrefix(string(outside), "/var/tmp/kambrel-lab-") {
		if err := os.RemoveAll(string(outside)); err != nil {
			return err
		}
	}
	return os.RemoveAll(absolute)
}

// CAFile is the PEM file of the lab's certificate authority.
func (l *Lab) CAFile() string { return l.certificate.File() }

func (l *Lab) log(format string, facts ...any) {
	if l.Log != nil {
		l.Log(format, facts...)
	}
}

// Stop ends all servers, the youngest first, and frees the folder.
func (l *Lab) Stop() error {
	l.mu.Lock()
	processes, held := l.processes, l.held
	l.processes, l.held = nil, nil
	l.mu.Unlock()
	var failures []error
	for i := len(processes) - 1; i >= 0; i-- {
		failures = append(failures, processes[i].Stop())
	}
	for _, lock := range append(held, l.lock) {
		failures = append(failures, unlock(lock))
	}
	return errors.Join(failures...)
}

// fakedTime is the library of Debian's package libfaketime that tells another time.
var fakedTime = func() string {
	found, _ := filepath.Glob("/usr/lib/*/faketime/libfaketimeMT.so.1")
	return strings.Join(found, "")
}()

// clock is what has a program live at another time, in its environment.
func (l *Lab) clock(name string) []string {
	ahead := l.Clocks[name]
	if ahead == 0 {
		return nil
	}
	// What is waited for is as long as ever, and the clock does not jump when this is read again.
	return []string{"LD_PRELOAD=" + fakedTime, fmt.Sprintf("FAKETIME=%+d", int(ahead.Seconds())), "DONT_FAKE_MONOTONIC=1", "FAKETIME_CACHE_DURATION=86400"}
}

// Start runs a program of the lab; see Process.
func (l *Lab) Start(ctx context.Context, c Command) (*Process, error) {
	c.Env = append(c.Env, l.clock(c.Name)...)
	p, err := start(ctx, l.Dir, c)
	if err != nil {
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.processes = append(l.processes, p)
	return p, nil
}

// FreePort returns a loopback port that nobody listens on. A port from first
// on is preferred, so that a demo is found where it was; 0 means any.
func FreePort(first int) (int, error) {
	for port := first; first > 0 && port < first+100; port++ {
		listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			return port, listener.Close()
		}
	}
	// Below the ports that outgoing connections get, which would take one between
	// here and the start of its server.
	for range 1000 {
		port := 15000 + rand.IntN(17000)
		if _, given := givenPorts.LoadOrStore(port, true); given {
			continue
		}
		listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			return port, listener.Close()
		}
	}
	return 0, errors.New("no port is free on loopback")
}

// givenPorts are those that this process was given.
var givenPorts sync.Map
