package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"text/tabwriter"
	"time"
)

// profile tells for each figure where the time went: processor seconds by process, the
// statements that PostgreSQL was busy with, and what perf saw of all.
type profile struct {
	folder string
	stage  *stage
	number int

	before map[string]float64
	began  time.Time
	perf   *exec.Cmd
}

// of takes a figure, and writes where its time went to files in the folder.
func (p *profile) of(ctx context.Context, name string, do func(context.Context) (float64, error)) (float64, error) {
	if p.folder == "" {
		return do(ctx)
	}
	p.number++
	base := filepath.Join(p.folder, fmt.Sprintf("%02d-%s", p.number, strings.NewReplacer(" ", "-", ",", "", "'", "").Replace(name)))
	if err := p.begin(ctx, base); err != nil {
		return 0, fmt.Errorf("begin the profile: %w", err)
	}
	took, err := do(ctx)
	return took, errors.Join(err, p.end(context.WithoutCancel(ctx), base))
}

func (p *profile) begin(ctx context.Context, base string) error {
	db, err := sql.Open("pgx", p.stage.postgres.DSN("postgres"))
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, `CREATE EXTENSION IF NOT EXISTS pg_stat_statements; SELECT pg_stat_statements_reset()`); err != nil {
		return err
	}
	p.perf = nil
	if path, err := exec.LookPath("perf"); err == nil {
		p.perf = exec.Command(path, "record", "-q", "-a", "-F", "199", "-g", "-o", base+".perf")
		if err := p.perf.Start(); err != nil {
			return err
		}
	}
	p.before, p.began = p.used(), time.Now()
	return nil
}

func (p *profile) end(ctx context.Context, base string) error {
	took, after := time.Since(p.began), p.used()
	file, err := os.Create(base + ".txt")
	if err != nil {
		return err
	}
	defer file.Close()
	fmt.Fprintf(file, "%.2f s, and seconds of a processor:\n", took.Seconds())
	for _, name := range []string{"service", "agent", "PostgreSQL", "cloud", "directory"} {
		fmt.Fprintf(file, "  %-12s %7.2f\n", name, after[name]-p.before[name])
	}
	if err := p.statements(ctx, file); err != nil {
		return err
	}
	if p.perf == nil {
		return nil
	}
	_ = p.perf.Process.Signal(syscall.SIGINT)
	_ = p.perf.Wait() // it ends by the signal
	for _, sort := range []string{"comm", "comm,symbol"} {
		seen, err := exec.CommandContext(ctx, "perf", "report", "-i", base+".perf", "--stdio", "--no-children", "-g", "none", "--percent-limit", "0.3", "--sort", sort).Output()
		if err != nil { // nothing was seen of what took no time
			fmt.Fprintf(file, "\nperf report: %v\n", err)
			break
		}
		fmt.Fprintf(file, "\n%s", seen)
	}
	return nil
}

// statements lists those that took longest, also those within triggers.
func (p *profile) statements(ctx context.Context, to io.Writer) error {
	db, err := sql.Open("pgx", p.stage.postgres.DSN("postgres"))
	if err != nil {
		return err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, `SELECT total_exec_time + total_plan_time, total_plan_time, calls, rows, toplevel, regexp_replace(query, '\s+', ' ', 'g')
		FROM pg_stat_statements ORDER BY 1 DESC LIMIT 60`)
	if err != nil {
		return err
	}
	defer rows.Close()
	table := tabwriter.NewWriter(to, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(table, "\nms\tplanning\tcalls\trows\t\t  statement\n")
	for rows.Next() {
		var total, planning float64
		var calls, n int64
		var top bool
		var query string
		if err := rows.Scan(&total, &planning, &calls, &n, &top, &query); err != nil {
			return err
		}
		if len(query) > 220 {
			query = query[:220]
		}
		fmt.Fprintf(table, "%.0f\t%.0f\t%d\t%d\t%s\t  %s\n", total, planning, calls, n, map[bool]string{true: "", false: "within"}[top], query)
	}
	return errors.Join(rows.Err(), table.Flush())
}

// used is how many seconds of a processor each part has had.
func (p *profile) used() map[string]float64 {
	postgres := processorSeconds(p.stage.postgres.PID())
	for _, child := range children(p.stage.postgres.PID()) {
		postgres += processorSeconds(child)
	}
	return map[string]float64{
		"service": processorSeconds(p.stage.service.PID()), "agent": processorSeconds(p.stage.agent.PID()), "PostgreSQL": postgres,
		"cloud": processorSeconds(p.stage.cloud.PID()), "directory": processorSeconds(p.stage.directory.PID()),
	}
}

// ticks is the unit of /proc/PID/stat on every Linux that Go runs on.
const ticks = 100

// processorSeconds reads the fields utime to cstime of /proc/PID/stat (proc(5)), children
// that have ended among them.
func processorSeconds(pid int) float64 {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	sum := 0.0
	for i := 11; i <= 14 && i < len(fields); i++ {
		n, _ := strconv.ParseFloat(fields[i], 64)
		sum += n / ticks
	}
	return sum
}

func children(pid int) []int {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	var out []int
	for _, field := range strings.Fields(string(text)) {
		child, _ := strconv.Atoi(field)
		out = append(out, child)
	}
	return out
}
