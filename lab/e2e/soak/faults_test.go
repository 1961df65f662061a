package soak_test

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the database/sql driver "pgx"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/lab/servers"
)

// fault is something that goes wrong, until it is healed.
type fault struct {
	name   string
	strike func(*soak) (heal func())
}

// faults are healed from the last to the first: what others need to start comes last.
var faults = []fault{
	{"a service killed", func(s *soak) func() {
		s.Service.Kill()
		return s.StartService
	}},
	{"the other service killed", func(s *soak) func() {
		s.Second.Kill()
		return s.startStandby
	}},
	{"a service stopped for a while", func(s *soak) func() { return s.stopped(s.Service) }},
	{"the other service stopped for a while", func(s *soak) func() { return s.stopped(s.Second) }},
	{"both services killed", func(s *soak) func() {
		s.Service.Kill()
		s.Second.Kill()
		return func() {
			s.startStandby()
			s.StartService()
		}
	}},
	{"an agent killed", func(s *soak) func() {
		s.Agent.Kill()
		return s.StartAgent
	}},
	{"both agents killed", func(s *soak) func() {
		s.Agent.Kill()
		s.second.Kill()
		return func() {
			s.StartAgent()
			s.second.Start()
		}
	}},
	{"an agent stopped for a while", func(s *soak) func() { return s.stopped(s.Agent) }},
	{"the cloud killed", func(s *soak) func() {
		s.Cloud.Kill()
		return func() { s.RestartCloud("") }
	}},
	{"the cloud fails now and then", func(s *soak) func() {
		s.cloudFaults(map[string]any{"rate": 0.05 + 0.25*s.random.Float64(), "seed": s.random.Uint64N(1000)})
		return func() { s.cloudFaults(map[string]any{}) }
	}},
	{"the network to the cloud cut", func(s *soak) func() {
		s.between.Takes(func(http.ResponseWriter, *http.Request) bool { panic(http.ErrAbortHandler) })
		return func() { s.between.Takes(nil) }
	}},
	{"answers of the cloud late or lost", (*soak).late},
	{"the directory restarted", func(s *soak) func() {
		s.must(s.Directory.Process.Stop())
		s.RestartDirectory() // who edits needs it
		return func() {}
	}},
	{"the directory killed", func(s *soak) func() {
		s.Directory.Process.Kill()
		s.RestartDirectory()
		s.forgets = true
		// What was added just before, and never read, it tells of with its next change.
		return func() { s.Set(worldtest.Leavers, "description", fmt.Sprint("round ", s.tally.rounds)) }
	}},
	{"the database killed", func(s *soak) func() {
		// Without a word to anybody; it may have gone down over a full disk before.
		if err := syscall.Kill(s.Postgres.PID(), syscall.SIGQUIT); !errors.Is(err, syscall.ESRCH) {
			s.must(err)
		}
		<-s.Postgres.Ended()
		return s.StartDatabase
	}},
	{"the database read only", func(s *soak) func() {
		s.ReadOnly(true)
		return func() { s.ReadOnly(false) }
	}},
	{"the disk of the database full", func(s *soak) func() {
		s.diskFull("262144")
		return func() {
			s.diskFull("unlimited")
			s.StartDatabase() // it may have gone down over it
		}
	}},
}

// stopped stops a program where it is, transactions and all.
func (s *soak) stopped(p *servers.Process) func() {
	// It may have been killed before, or be meanwhile.
	_ = syscall.Kill(p.PID(), syscall.SIGSTOP)
	return func() { _ = syscall.Kill(p.PID(), syscall.SIGCONT) }
}

func (s *soak) startStandby() { s.Standby("--agent-patience", "4s", "--order-lease", "3s") }

// late lets the cloud do what it is asked for and the answer come seconds later, or never.
func (s *soak) late() func() {
	var mu sync.Mutex
	random := s.random.Uint64()
	next := func(n uint64) uint64 {
		mu.Lock()
		defer mu.Unlock()
		random = random*6364136223846793005 + 1442695040888963407
		return (random >> 33) % n
	}
	target := strings.TrimSuffix(s.Cloud.URL, "/scim/v2")
	s.between.Takes(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet || next(3) > 0 {
			return false
		}
		request, err := http.NewRequest(r.Method, target+r.URL.RequestURI(), strings.NewReader(worldtest.BodyOf(r)))
		if err != nil {
			return false
		}
		request.Header = r.Header.Clone()
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			panic(http.ErrAbortHandler)
		}
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		if err != nil || next(2) == 0 {
			panic(http.ErrAbortHandler)
		}
		s.rest(time.Duration(next(4000)) * time.Millisecond)
		w.Header().Set("Content-Type", response.Header.Get("Content-Type"))
		w.WriteHeader(response.StatusCode)
		_, _ = w.Write(text)
		return true
	})
	return func() { s.between.Takes(nil) }
}

// diskFull lets no file of the database grow beyond a size: what is written there fails as
// on a full disk. Sessions begin anew, since each has the limit of its beginning.
func (s *soak) diskFull(size string) {
	if s.DatabaseAway() {
		return
	}
	command := exec.Command("prlimit", "--pid", fmt.Sprint(s.Postgres.PID()), "--fsize="+size+":")
	if os.Geteuid() == 0 { // PostgreSQL is another user's then, who alone may do so
		info, err := os.Stat(fmt.Sprintf("/proc/%d", s.Postgres.PID()))
		s.must(err)
		owner := info.Sys().(*syscall.Stat_t)
		command.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: owner.Uid, Gid: owner.Gid}}
	}
	out, err := command.CombinedOutput()
	require.NoError(s.T, err, string(out))
	_ = s.EndSessions()
}

// cloudFaults is CloudFaults of a cloud that may be away, which begins anew without any.
func (s *soak) cloudFaults(faults map[string]any) {
	status, _, err := worldtest.TrySCIM(s.T.Context(), s.Address(), http.MethodPost, s.Cloud.Control+"/faults", faults)
	if err == nil && status != http.StatusOK {
		s.T.Fatalf("the stand-in answers %d to its faults", status)
	}
}
