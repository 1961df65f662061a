// Package checkup says of an installation what is well, what is doubtful and what is bad,
// with what to do: not whether people are in step, but whether the house will stand.
package checkup

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/settings"
)

// Outcome is how something stands.
type Outcome string

// The outcomes.
const (
	Good     Outcome = "good"
	Doubtful Outcome = "doubtful"
	Bad      Outcome = "bad"
)

// Finding is one thing that was looked at.
type Finding struct {
	Step    string
	Subject string // "" for the whole
	Outcome Outcome
	Detail  string
	Advice  string
}

// Facts are what is looked at.
type Facts struct {
	Version string
	// Plain: the service is reached without TLS, on loopback only.
	Plain        bool
	Certificates []Certificate // that end within a month
	Database     Database
	Backup       *time.Time // of the last one
	// Settings are the active ones, nil before the first activation.
	Settings *settings.Document
	Linked   int // entries that have a resource and have not left
	Agents   []Agent
	// Live: changes start runs by themselves; NextRun is when the schedule does.
	Live    bool
	NextRun *time.Time
	Pauses  []string // in words
	LastRun *Run
	// Stuck is why notices do not get through.
	Stuck     string
	Operators []Operator
	Groups    []Group
	Tokens    []Token
}

// Certificate is one that ends soon.
type Certificate struct {
	Of   string
	Ends time.Time
}

// Database is where the records are.
type Database struct {
	Version string
	Bytes   int64
	// Superuser: the service signs in as one, which it need not be.
	Superuser bool
	// Synced: what was committed is on the disk (fsync, synchronous_commit).
	Synced bool
	// Ahead is how far its clock is ahead of the service's.
	Ahead time.Duration
}

// Agent is one that reaches directories.
type Agent struct {
	Name, Version string
	Online        bool
	Serves        []string
	Asks          []string // for directories that it was not granted
	Plain         []string // directories that it reaches without TLS
	Faults        []string // why it fails, in words
}

// Run is the last that wrote and has ended.
type Run struct {
	ID     int64
	Failed string // why, "" when it did not
	Ended  time.Time
}

// Operator is an account of Kambrel's own.
type Operator struct {
	Name                                   string
	Administrator, Emergency, SecondFactor bool
}

// Group is one of a directory whose members sign in.
type Group struct {
	Name string
	Gone bool
}

// Token is one of a program.
type Token struct {
	Name    string
	Expires time.Time
	Made    time.Time
	Used    *time.Time
}

// How long things may take.
const (
	backupWithin = 8 * 24 * time.Hour
	tokenSoon    = 30 * 24 * time.Hour
	tokenIdle    = 90 * 24 * time.Hour
	runWithin    = 25 * time.Hour
	clocksApart  = 5 * time.Second
)

// Look says how everything stands.
func Look(f Facts, now time.Time) []Finding {
	var findings []Finding
	for _, part := range []func(Facts, time.Time) []Finding{connection, database, backup, configured, agents, going, people, programs, notices} {
		findings = append(findings, part(f, now)...)
	}
	return findings
}

func one(step string, outcome Outcome, detail, advice string) []Finding {
	return []Finding{{Step: step, Outcome: outcome, Detail: detail, Advice: advice}}
}

func connection(f Facts, _ time.Time) []Finding {
	if len(f.Certificates) > 0 {
		texts := make([]string, len(f.Certificates))
		for i, c := range f.Certificates {
			texts[i] = c.Of + " until " + c.Ends.Format(time.DateOnly)
		}
		return one("certificates", Doubtful, strings.Join(texts, "; "), "Renew them before that day; what depends on them stops then. One of the service's own is renewed by itself.")
	}
	if f.Plain {
		return one("certificates", Doubtful, "the service speaks without TLS, to this host alone", "Good for a demo. Take --plain out before another host uses it.")
	}
	return one("certificates", Good, "none ends within a month", "")
}

func database(f Facts, _ time.Time) []Finding {
	detail := fmt.Sprintf("PostgreSQL %s, %d MB", f.Database.Version, f.Database.Bytes>>20)
	switch {
	case !f.Database.Synced:
		return one("database", Bad, detail+"; it forgets what was committed when its host falls (fsync or synchronous_commit is off)", "Switch both on: after a fall, what was made in the cloud would be unknown here.")
	case f.Database.Ahead.Abs() > clocksApart:
		return one("database", Doubtful, fmt.Sprintf("%s; its clock is %s %s that of the service", detail, f.Database.Ahead.Abs().Round(time.Second), map[bool]string{true: "ahead of", false: "behind"}[f.Database.Ahead > 0]), "Keep both by NTP: times of leases, sessions and history are the database's; the service reckons with the difference.")
	case f.Database.Superuser:
		return one("database", Doubtful, detail+"; the service signs in as a superuser", "Give it a role of its own that owns its database: 'CREATE ROLE kambrel LOGIN; ALTER DATABASE ... OWNER TO kambrel'.")
	}
	return one("database", Good, detail, "")
}

func backup(f Facts, now time.Time) []Finding {
	const how = "'kambrel backup FILE' on the service's host, by a timer; keep the file elsewhere."
	switch {
	case f.Backup == nil:
		return one("backup", Doubtful, "none was made by 'kambrel backup', as far as the audit knows", how)
	case now.Sub(*f.Backup) > backupWithin:
		return one("backup", Doubtful, "the last one is of "+f.Backup.Format(time.DateOnly), how)
	}
	return one("backup", Good, "the last one is of "+f.Backup.Format(time.DateTime), "")
}

func configured(f Facts, _ time.Time) []Finding {
	if f.Settings == nil {
		return one("settings", Bad, "none are active: nothing is synced", "Connect a directory, choose who takes part and activate: 'kambrel directory add', or the console.")
	}
	g := f.Settings.Guard
	from := plan.HoldsFrom(settings.Limit{Number: g.Removals, Share: g.Share}, f.Linked)
	detail := fmt.Sprintf("of %d linked entries, the guard holds %d and more that would go", f.Linked, from)
	const how = "Lower guard.removals or guard.share: 'kambrel guard set', or Settings in the console."
	switch {
	case f.Linked > 0 && from > f.Linked:
		return one("settings", Bad, fmt.Sprintf("of %d linked entries, the guard would let all go at once (%d and %d %%)", f.Linked, g.Removals, g.Share), how)
	case from > f.Linked/4 && f.Linked > 0:
		return one("settings", Doubtful, detail, how)
	}
	return one("settings", Good, detail, "")
}

func agents(f Facts, _ time.Time) []Finding {
	var findings []Finding
	serving := map[string]int{}
	for _, a := range f.Agents {
		found := Finding{Step: "agent", Subject: a.Name, Outcome: Good, Detail: "version " + a.Version + ", serves " + strings.Join(a.Serves, ", ")}
		switch {
		case !a.Online:
			found.Outcome, found.Detail, found.Advice = Doubtful, "is not heard of", "Look at its log on its host; 'kambrel agent retire' if it is not meant to come back."
		case len(a.Faults) > 0:
			found.Outcome, found.Detail, found.Advice = Bad, strings.Join(a.Faults, "; "), "Correct that on the agent's host; a probe of the directory lets it work again."
		case len(a.Asks) > 0:
			found.Outcome, found.Detail, found.Advice = Doubtful, "asks for "+strings.Join(a.Asks, ", ")+", which it was not granted", "'kambrel agent grant' if it is meant to, otherwise take them out of its configuration."
		case len(a.Plain) > 0:
			found.Outcome, found.Detail, found.Advice = Doubtful, "reaches "+strings.Join(a.Plain, ", ")+" without TLS", "Use ldaps:// or startTLS: passwords and people's data go over it."
		case a.Version != f.Version:
			found.Outcome, found.Advice = Doubtful, "The service is "+f.Version+": bring both to the same, the service first ('kambrel agent update', or the next package on its host)."
		}
		if a.Online {
			for _, name := range a.Serves {
				serving[name]++
			}
		}
		findings = append(findings, found)
	}
	if f.Settings == nil {
		return findings
	}
	for _, d := range f.Settings.Directories {
		switch serving[d.Name] {
		case 0:
			findings = append(findings, Finding{"agents", d.Name, Bad, "no agent that is there serves it", "Start or enrol one: 'kambrel agent code " + d.Name + "'."})
		case 1:
			findings = append(findings, Finding{"agents", d.Name, Doubtful, "one agent serves it", "A second one on another host takes over when the first is away, within seconds: 'kambrel agent code " + d.Name + "'."})
		default:
			findings = append(findings, Finding{"agents", d.Name, Good, fmt.Sprintf("%d agents serve it", serving[d.Name]), ""})
		}
	}
	return findings
}

func going(f Facts, now time.Time) []Finding {
	if f.Settings == nil {
		return nil
	}
	var findings []Finding
	switch {
	case len(f.Pauses) > 0:
		findings = one("work", Doubtful, strings.Join(f.Pauses, "; "), "'kambrel resume' when its reason is over.")
	case !f.Live && f.NextRun == nil:
		findings = one("work", Doubtful, "nothing starts a run: it is not live, and there is no schedule", "Switch live on, or set a schedule: 'kambrel schedule --help'.")
	default:
		findings = one("work", Good, map[bool]string{true: "live", false: "by schedule"}[f.Live], "")
	}
	switch {
	case f.LastRun == nil:
		return append(findings, one("last run", Doubtful, "none has ended that wrote", "'kambrel rehearse', then 'kambrel sync'.")...)
	case f.LastRun.Failed != "":
		return append(findings, one("last run", Bad, fmt.Sprintf("run %d failed: %s", f.LastRun.ID, f.LastRun.Failed), fmt.Sprintf("'kambrel runs show %d' says what to do.", f.LastRun.ID))...)
	case len(f.Pauses) == 0 && now.Sub(f.LastRun.Ended) > runWithin && f.NextRun != nil:
		return append(findings, one("last run", Doubtful, "the last ended on "+f.LastRun.Ended.Format(time.DateTime), "A schedule is set: look why none has begun since.")...)
	}
	return append(findings, one("last run", Good, fmt.Sprintf("run %d ended on %s", f.LastRun.ID, f.LastRun.Ended.Format(time.DateTime)), "")...)
}

func people(f Facts, _ time.Time) []Finding {
	var administrators, without []string
	emergency := false
	for _, o := range f.Operators {
		emergency = emergency || o.Emergency
		if !o.Administrator {
			continue
		}
		administrators = append(administrators, o.Name)
		if !o.SecondFactor && !o.Emergency {
			without = append(without, o.Name)
		}
	}
	var findings []Finding
	switch {
	case len(administrators) < 2 && !emergency:
		findings = one("administrators", Doubtful, strings.Join(administrators, ", ")+" alone", "Add one for emergencies and lock its password away: 'kambrel operator add NAME --role administrator --emergency'.")
	case len(without) > 0:
		findings = one("administrators", Doubtful, "without a second factor: "+strings.Join(without, ", "), "Each sets one up by themselves: 'kambrel operator factor set', or Your account in the console.")
	default:
		findings = one("administrators", Good, strings.Join(administrators, ", "), "")
	}
	for _, g := range f.Groups {
		if g.Gone {
			findings = append(findings, Finding{"operator group", g.Name, Doubtful, "the directory has it no more", "Take it away: 'kambrel operator group remove'."})
		}
	}
	return findings
}

func programs(f Facts, now time.Time) []Finding {
	var findings []Finding
	for _, t := range f.Tokens {
		last := t.Made
		if t.Used != nil {
			last = *t.Used
		}
		switch {
		case t.Expires.Sub(now) < tokenSoon:
			findings = append(findings, Finding{"token", t.Name, Doubtful, "ends on " + t.Expires.Format(time.DateOnly), "Make another and give it to the program before that day: 'kambrel token make'."})
		case now.Sub(last) > tokenIdle:
			findings = append(findings, Finding{"token", t.Name, Doubtful, "was not used since " + last.Format(time.DateOnly), "End it if nobody needs it: 'kambrel token end'."})
		}
	}
	if len(findings) == 0 {
		return one("tokens", Good, fmt.Sprintf("%d, none of which ends soon or lies idle", len(f.Tokens)), "")
	}
	return findings
}

func notices(f Facts, _ time.Time) []Finding {
	switch {
	case f.Stuck != "":
		return one("notices", Bad, f.Stuck, "Correct it, and try it with 'kambrel notices test'.")
	case f.Settings == nil:
		return nil
	case len(f.Settings.Notices.Recipients) == 0 && f.Settings.Notices.Webhook == "":
		return one("notices", Doubtful, "nobody is told when something fails", "Name recipients in the settings (notices), and try it with 'kambrel notices test'.")
	}
	return one("notices", Good, fmt.Sprintf("%d recipients", len(f.Settings.Notices.Recipients)), "")
}

// Worst is the worst outcome of findings.
func Worst(findings []Finding) Outcome {
	order := []Outcome{Good, Doubtful, Bad}
	worst := Good
	for _, f := range findings {
		if slices.Index(order, f.Outcome) > slices.Index(order, worst) {
			worst = f.Outcome
		}
	}
	return worst
}
