// Command bench measures Kambrel's targets on this machine, with everything on
// it: OpenLDAP, PostgreSQL, the cloud stand-in, service and agent. Each figure
// stands beside a raw limit measured in the same run. It prints a table, writes
// docs/performance.md, and bench.json for programs.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
)

// figures are what is measured at one size of the directory; times in seconds.
type figures struct {
	People     int     `json:"people"`
	Load       float64 `json:"load"`
	RawRead    float64 `json:"rawRead"`
	RawCopy    float64 `json:"rawCopy"`
	RawCreate  float64 `json:"rawCreate"`
	FirstRun   float64 `json:"firstRun"`
	FirstRead  float64 `json:"firstRead"`
	FirstPlan  float64 `json:"firstPlan"`
	FirstWrite float64 `json:"firstWrite"`
	ReadBack   float64 `json:"readBack"`
	Idle       float64 `json:"idle"`
	Delta      float64 `json:"delta"`
	RawDelta   float64 `json:"rawDelta"`
	Rehearsal  float64 `json:"rehearsal"`
	RawPass    float64 `json:"rawPass"`
	Impact     float64 `json:"impact"`
	Survey     float64 `json:"survey"`
	Preview    float64 `json:"preview"`
	Estimate   float64 `json:"estimate"`
	Tree       float64 `json:"tree"`
	Why        float64 `json:"why"`
	Find       float64 `json:"find"`
	FindFilter float64 `json:"findFilter"`
	Groups     float64 `json:"groups"`
	OneMember  float64 `json:"oneMember"`
	RawMember  float64 `json:"rawMember"`
	GroupDelta float64 `json:"groupDelta"`
	WhyGroups  float64 `json:"whyGroups"`
	Undo       float64 `json:"undo"`
	Runs       float64 `json:"runs"`
	Pages      float64 `json:"pages"`
	ConsoleKB  float64 `json:"consoleKB"`
	ConsoleAll float64 `json:"consoleAllKB"`
	Seen       float64 `json:"consoleSeen"`
	Largest    float64 `json:"consoleLargest"`
	Blocked    float64 `json:"consoleBlocked"`
	Moved      float64 `json:"consoleMoved"`
	Live       float64 `json:"live"`
	LiveBeside float64 `json:"liveBesideARehearsal"`
	Reset      float64 `json:"reset"`
	ResetRun   float64 `json:"resetBesideARun"`
	RawReset   float64 `json:"rawReset"`
	Slowest    float64 `json:"slowest"`
	ServiceMB  float64 `json:"serviceMB"`
	AgentMB    float64 `json:"agentMB"`
	DatabaseMB float64 `json:"databaseMB"`
}

func main() {
	sizes := flag.String("sizes", "10000,100000", "numbers of people, separated by commas")
	hold := flag.Bool("hold", false, "keep the largest installation running until interrupted, to look at it")
	million := flag.Bool("million", false, "also measure 1,000,000 people, which takes most of an hour")
	services := flag.Int("services", 1, "how many services run on the database; nothing is written for more than one")
	only := flag.String("only", ".", "only the figures whose names fit this regular expression; nothing is written then, unless --out is given")
	history := flag.Bool("history", true, "keep history, as the service does; without, what that costs is seen")
	folder := flag.String("profile", "", "a folder for files that tell where the time of each figure went; nothing else is written then")
	out := flag.String("out", filepath.Join("docs", "performance.md"), "where the table is written")
	flag.Parse()
	if *million {
		*sizes += ",1000000"
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	wanted, err := regexp.Compile(*only)
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench: --only:", err)
		os.Exit(1)
	}
	if err := run(ctx, options{sizes: *sizes, out: *out, profile: *folder, hold: *hold, history: *history, services: *services, only: wanted, write: given("out")}); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// options are what a bench is asked for.
type options struct {
	sizes, out, profile string
	hold, history       bool
	write               bool // also what is not whole
	services            int
	only                *regexp.Regexp
}

// part tells that not every figure is taken as it is told.
func (o options) part() bool {
	return o.only.String() != "." && !o.write || !o.history || o.profile != "" || o.services > 1
}

// given tells whether an option was given by hand.
func given(name string) (given bool) {
	flag.Visit(func(f *flag.Flag) { given = given || f.Name == name })
	return given
}

func run(ctx context.Context, o options) error {
	if o.profile != "" {
		if err := os.MkdirAll(o.profile, 0o755); err != nil {
			return err
		}
	}
	var all []figures
	ns := numbers(o.sizes)
	for i, n := range ns {
		if n < 1000 {
			return errors.New("--sizes: give at least 1000 people")
		}
		fmt.Fprintf(os.Stderr, "bench: %d people\n", n)
		// Kept after each figure: the largest takes long.
		keep := func(f figures) error { return o.keep(append(slices.Clone(all), f)) }
		f, err := measure(ctx, n, o, o.hold && i == len(ns)-1, keep)
		if err != nil {
			return fmt.Errorf("%d people: %w", n, err)
		}
		all = append(all, f)
	}
	return nil
}

// keep writes what was measured, unless only a part was wanted.
func (o options) keep(all []figures) error {
	if o.part() {
		return nil
	}
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll("var", 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join("var", "bench.json"), append(text, '\n'), 0o644); err != nil {
		return err
	}
	plot := ""
	if len(all) > 1 {
		plot = strings.TrimSuffix(o.out, ".md") + ".png"
		if err := plotGrowth(all, plot); err != nil {
			return err
		}
	}
	return os.WriteFile(o.out, []byte(report(all, time.Now(), plot)), 0o644)
}

// measure takes all figures at one size, on a fresh installation.
func measure(ctx context.Context, n int, o options, hold bool, keep func(figures) error) (f figures, err error) {
	s, err := newStage(ctx, n, o)
	if err != nil {
		return f, err
	}
	defer func() { err = errors.Join(err, s.close()) }()
	profile := profile{folder: o.profile, stage: s}
	f.People, f.Load = n, s.loaded
	steps := []struct {
		name string
		into *float64
		do   func(context.Context) (float64, error)
	}{
		{"ldapsearch of the whole tree", &f.RawRead, s.rawRead},
		{"COPY of as many rows", &f.RawCopy, s.rawCopy},
		{"the cloud's own create rate", &f.RawCreate, s.rawCreate},
		{"first run", &f.FirstRun, s.firstRun},
		{"first delta, which reads back what was written", &f.ReadBack, s.delta0},
		{"delta without a change", &f.Idle, s.delta0},
		{"delta of 100 changes", &f.Delta, s.delta100},
		{"100 entries read and 100 PATCHes", &f.RawDelta, s.rawDelta},
		{"live, 95 of 100", &f.Live, s.live},
		{"live, while everybody is rehearsed, 95 of 100", &f.LiveBeside, s.liveBeside},
		{"rehearsal of everything", &f.Rehearsal, s.rehearsal},
		{"one pass over the mirror in SQL", &f.RawPass, s.rawPass},
		{"impact of a draft", &f.Impact, s.impact},
		{"survey of everybody", &f.Survey, s.survey},
		{"live count of a filter", &f.Preview, s.preview},
		{"estimate of it from some", &f.Estimate, s.estimate},
		{"container tree", &f.Tree, s.tree},
		{"why", &f.Why, s.why},
		{"find", &f.Find, s.find},
		{"find by a filter", &f.FindFilter, s.findFilter},
		{"first run of groups", &f.Groups, s.firstGroups},
		{"one member more in the largest group", &f.OneMember, s.oneMember},
		{"delta of 100 changes, with groups", &f.GroupDelta, s.delta100},
		{"why, with groups", &f.WhyGroups, s.why},
		{"preview of undoing the first run", &f.Undo, s.undo},
		{"a thousand runs", &f.Runs, s.thousandRuns},
		{"data of the console's pages, 95 of 100", &f.Pages, s.pages},
		{"the console opens", &f.Largest, s.opens},
		{"the group read and one PATCH", &f.RawMember, s.rawMember},
		{"password resets, 95 of 100", &f.Reset, s.passwords},
		{"password resets beside a run of everything, 95 of 100", &f.ResetRun, s.passwordsBeside},
		{"password resets at the directory itself", &f.RawReset, s.rawPasswords},
	}
	for _, step := range steps {
		if !o.only.MatchString(step.name) {
			continue
		}
		if *step.into, err = profile.of(ctx, step.name, step.do); err != nil {
			return f, fmt.Errorf("%s: %w", step.name, err)
		}
		fmt.Fprintf(os.Stderr, "bench:   %-50s %8.3f s\n", step.name, *step.into)
		f.Slowest = s.slowest
		f.ConsoleKB, f.ConsoleAll, f.Seen, f.Blocked, f.Moved = s.opening.kB, s.opening.all, s.opening.seen, s.opening.blocked, s.opening.moved
		f.FirstRead, f.FirstPlan, f.FirstWrite = s.readTime, s.planTime, s.writeTime
		f.ServiceMB, f.AgentMB = peakMB(s.service.PID()), peakMB(s.agent.PID())
		if f.DatabaseMB, err = s.databaseMB(ctx); err != nil {
			return f, err
		}
		if err := keep(f); err != nil {
			return f, err
		}
	}
	if hold {
		fmt.Fprintf(os.Stderr, "bench: %s, administrator / %s, %s\n", s.address, password, s.dsn)
		<-ctx.Done()
	}
	return f, nil
}

// median of several measurements keeps one hiccup from counting.
func median(times []float64) float64 {
	slices.Sort(times)
	return times[len(times)/2]
}
