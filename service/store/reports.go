package store

import (
	"cmp"
	"context"
	"time"
)

// Reports tell what came of a time, from runs, their changes, problems and acts.
type Reports struct{ *session }

// Period is from when until when, the latter excluded.
type Period struct{ From, To time.Time }

// ReportCount is how many changes of one kind were done.
type ReportCount struct {
	Kind, Operation string
	Count           int
}

// ReportLine is one thing that a run has done, or failed to do.
type ReportLine struct {
	At                               time.Time
	Kind, Name, Operation, Directory string
	DN                               string `gorm:"column:dn"`
	EntryID                          string
	RunID                            int64
	By                               string // who asked for the run
	Purpose                          string
	State, Answer                    string
}

// ofRuns chooses what runs u have done, d, that have ended within a period.
const ofRuns = ` JOIN runs u ON u.id = d.run_id WHERE u.ended >= @from AND u.ended < @to AND u.` + writing

// Counts counts what was done, by kind and operation.
func (s Reports) Counts(ctx context.Context, p Period) ([]ReportCount, error) {
	var counts []ReportCount
	return counts, s.raw(ctx, `SELECT d.kind, d.operation, sum(d.n) AS count FROM run_done d`+ofRuns+` GROUP BY 1, 2 ORDER BY 1 DESC, 2`, p.args()).Scan(&counts).Error
}

// ReportPart is a part of a report that names each thing.
type ReportPart string

// The parts.
const (
	Came    ReportPart = "came"
	Left    ReportPart = "left"
	Changed ReportPart = "changed"
	Failed  ReportPart = "failed"
)

// reportParts are how many of a part each run d has, and which changes c these are.
var reportParts = map[ReportPart]struct{ counted, chosen string }{
	Came:    done("'create', 'adopt', 'restore'"),
	Left:    done("'suspend', 'leave', 'delete', 'unlink'"),
	Changed: done("'update'"),
	Failed: {`(SELECT run_id, count(*) AS n FROM changes WHERE state IN ('failed', 'unconfirmed', 'unanswered') GROUP BY 1)`,
		`c.state IN ('failed', 'unconfirmed', 'unanswered')`},
}

func done(operations string) struct{ counted, chosen string } {
	return struct{ counted, chosen string }{
		`(SELECT run_id, sum(n) AS n FROM run_done WHERE operation IN (` + operations + `) GROUP BY 1)`,
		`c.state = 'done' AND c.operation IN (` + operations + `)`,
	}
}

func (p Period) args() map[string]any { return map[string]any{"from": p.From, "to": p.To} }

// Lines lists a part of a report, the newest first; a limit of 0 is none. They are of so
// many runs at most.
func (s Reports) Lines(ctx context.Context, p Period, part ReportPart, limit int) ([]ReportLine, int, error) {
	of, args := reportParts[part], p.args()
	var total int
	if err := s.raw(ctx, `SELECT coalesce(sum(d.n), 0) FROM `+of.counted+` d`+ofRuns, args).Scan(&total).Error; err != nil || total == 0 {
		return nil, 0, err
	}
	args["limit"] = cmp.Or(limit, total)
	var lines []ReportLine
	err := s.raw(ctx, `SELECT coalesce(c.answered, c.sent, u.ended) AS at, c.kind, c.name, c.dn, c.operation, c.directory, c.entry_id, c.run_id, u.by, u.purpose, c.state, c.answer
		FROM (SELECT u.* FROM `+of.counted+` d`+ofRuns+` ORDER BY u.id DESC LIMIT @limit) u
		CROSS JOIN LATERAL (SELECT * FROM changes c WHERE c.run_id = u.id AND `+of.chosen+` ORDER BY c.id DESC LIMIT @limit) c ORDER BY c.id DESC LIMIT @limit`, args).Scan(&lines).Error
	return lines, total, err
}

// RunCounts counts the runs that write and have ended within a period, and those that failed.
func (s Reports) RunCounts(ctx context.Context, p Period) (runs, failed int, err error) {
	var row struct{ Runs, Failed int }
	err = s.raw(ctx, `SELECT count(*) AS runs, count(*) FILTER (WHERE state = 'failed') AS failed FROM runs WHERE ended >= ? AND ended < ? AND `+writing, p.From, p.To).Scan(&row).Error
	return row.Runs, row.Failed, err
}

// ReportProblem is how many problems of a code came and went, and how many are open.
type ReportProblem struct {
	Code                 string
	Opened, Closed, Open int
}

// Problems counts problems by code.
func (s Reports) Problems(ctx context.Context, p Period) ([]ReportProblem, error) {
	var rows []ReportProblem
	return rows, s.raw(ctx, `SELECT code, count(*) FILTER (WHERE since >= @from AND since < @to) AS opened, count(*) FILTER (WHERE closed >= @from AND closed < @to) AS closed,
			count(*) FILTER (WHERE since < @to AND (closed IS NULL OR closed >= @to)) AS open
		FROM problems WHERE since < @to AND (closed IS NULL OR closed >= @from) GROUP BY 1 ORDER BY 4 DESC, 2 DESC, 1`, map[string]any{"from": p.From, "to": p.To}).Scan(&rows).Error
}

// ReportAct is how often somebody did something.
type ReportAct struct {
	By, Kind string
	Count    int
}

// Acts counts acts that were done, by whom and what.
func (s Reports) Acts(ctx context.Context, p Period) ([]ReportAct, error) {
	var rows []ReportAct
	return rows, s.raw(ctx, `SELECT by, kind, count(*) AS count FROM acts WHERE at >= ? AND at < ? AND result = 'done' AND kind <> 'sign-in' GROUP BY 1, 2 ORDER BY 3 DESC, 1, 2 LIMIT 50`, p.From, p.To).Scan(&rows).Error
}
