package servers

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Command says what to run and how to tell that it is ready.
type Command struct {
	Name string // names the pid file and the log
	Path string
	Args []string
	Env  []string // added to this process's own
	// UID and GID, when not 0, are whom the program runs as.
	UID, GID uint32
	// StopWith is the signal for a clean end; 0 means SIGTERM.
	StopWith syscall.Signal
	// Ready is asked until it returns nil.
	Ready func(context.Context) error
}

// Process is a running server.
type Process struct {
	name    string
	command *exec.Cmd
	pidFile string
	logFile string
	stop    syscall.Signal
	ended   chan struct{} // closed when the process has ended
}

const (
	readyWithin = 60 * time.Second
	stopWithin  = 20 * time.Second
)

func start(ctx context.Context, dir string, c Command) (*Process, error) {
	p := &Process{name: c.Name, pidFile: filepath.Join(dir, c.Name+".pid"), logFile: filepath.Join(dir, c.Name+".log"), stop: c.StopWith, ended: make(chan struct{})}
	if p.stop == 0 {
		p.stop = syscall.SIGTERM
	}
	endLeftover(p.pidFile)
	output, err := os.OpenFile(p.logFile, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return nil, err
	}
	defer output.Close()
	p.command = exec.Command(c.Path, c.Args...)
	p.command.Stdout, p.command.Stderr = output, output
	p.command.Env = append(os.Environ(), c.Env...)
	p.command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: p.stop, Setpgid: true}
	if c.UID != 0 {
		p.command.SysProcAttr.Credential = &syscall.Credential{Uid: c.UID, Gid: c.GID}
	}
	begun := make(chan error)
	go func() {
		// The kernel sends Pdeathsig when the starting thread ends, so this
		// thread is kept until the process has ended.
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := p.command.Start()
		begun <- err
		if err == nil {
			_ = p.command.Wait()
			close(p.ended)
		}
	}()
	if err := <-begun; err != nil {
		return nil, fmt.Errorf("start %s: %w", c.Name, err)
	}
	if err := os.WriteFile(p.pidFile, []byte(identify(p.command.Process.Pid)), 0o644); err != nil {
		return nil, errors.Join(err, p.Stop())
	}
	if err := p.await(ctx, c.Ready); err != nil {
		return nil, errors.Join(fmt.Errorf("%s does not get ready: %w\n%s", c.Name, err, p.tail()), p.Stop())
	}
	return p, nil
}

func (p *Process) await(ctx context.Context, ready func(context.Context) error) error {
	if ready == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, readyWithin)
	defer cancel()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		err := ready(ctx)
		if err == nil {
			return nil
		}
		select {
		case <-p.ended:
			return fmt.Errorf("it ended: %s", p.command.ProcessState)
		case <-ctx.Done():
			return err
		case <-tick.C:
		}
	}
}

// PID is the process id.
func (p *Process) PID() int { return p.command.Process.Pid }

// Ended is closed when the process has ended.
func (p *Process) Ended() <-chan struct{} { return p.ended }

// Kill ends the process at once, as a crash would.
func (p *Process) Kill() {
	_ = p.command.Process.Kill()
	<-p.ended
	_ = os.Remove(p.pidFile)
}

// Stop ends the process cleanly, or by force when it does not end in time.
func (p *Process) Stop() error {
	_ = p.command.Process.Signal(p.stop)
	select {
	case <-p.ended:
	case <-time.After(stopWithin):
		_ = syscall.Kill(-p.command.Process.Pid, syscall.SIGKILL)
		<-p.ended
	}
	if err := os.Remove(p.pidFile); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

func (p *Process) tail() string {
	text, _ := os.ReadFile(p.logFile)
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	return strings.Join(lines[max(0, len(lines)-15):], "\n")
}

// identify names a process so that a later one with the same pid is not taken
// for it: the pid and its start time (field 22 of proc(5) stat).
func identify(pid int) string {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return ""
	}
	after := string(stat[strings.LastIndexByte(string(stat), ')')+1:])
	fields := strings.Fields(after)
	if len(fields) < 20 {
		return ""
	}
	return fmt.Sprintf("%d %s", pid, fields[19])
}

// endLeftover ends what a crashed lab has left running.
func endLeftover(pidFile string) {
	text, err := os.ReadFile(pidFile)
	if err != nil {
		return
	}
	first, _, _ := strings.Cut(string(text), " ")
	pid, err := strconv.Atoi(first)
	if err != nil || identify(pid) != string(text) {
		return
	}
	_ = syscall.Kill(pid, syscall.SIGTERM)
	deadline := time.Now().Add(5 * time.Second)
	for identify(pid) == string(text) {
		if time.Now().After(deadline) {
			_ = syscall.Kill(-pid, syscall.SIGKILL)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// unlock frees a lock at once. Closing alone would leave it to a child that
// another goroutine is just starting, until that has begun its program.
func unlock(file *os.File) error {
	return errors.Join(syscall.Flock(int(file.Fd()), syscall.LOCK_UN), file.Close())
}

// lockFile takes an exclusive lock that ends with this process.
func lockFile(path string, wait bool) (*os.File, error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o644)
	if err != nil {
		return nil, err
	}
	how := syscall.LOCK_EX
	if !wait {
		how |= syscall.LOCK_NB
	}
	if err := syscall.Flock(int(file.Fd()), how); err != nil {
		_ = file.Close()
		return nil, err
	}
	return file, nil
}
