package checkup

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/settings"
)

// Step is one of a first day: from an empty service to people who are kept in step.
type Step struct {
	Key  string // names the place where it is done: cloud, directory, agent and so on
	Text string // what is so once it is done
	Done bool
	// Detail is how it stands now.
	Detail string
	// Do says what to do next, with the command for it; "" once it is done.
	Do string
	// Directory is the first that is not as far, "" where no single one is meant.
	Directory string
	// Later: the first run does not need it.
	Later bool
}

// Beginning is how far an installation has come, beside the facts of every day.
type Beginning struct {
	Cloud string // its URL, "" where none is connected
	// Refuses is why the cloud does not answer as one should, in words; "" while it does.
	Refuses string
	// Directories are those of the draft and of the active settings.
	Directories []Connected
	// Draft is what is edited: the active settings where nobody has edited anything.
	Draft *settings.Document
	// Rehearsed is the rehearsal of everybody that ended last, 0 for none.
	Rehearsed int64
}

// Connected is a directory and how far it is.
type Connected struct {
	Name   string
	Agents int    // that are there
	Probe  string // the outcome of the last one, "" before the first
	Read   bool
	Active bool
}

// FirstDay lists what there is to do, in the order in which it is done best. Nothing of it is
// remembered: it is looked at, so that it is true whoever did it, and when.
func FirstDay(f Facts, b Beginning, now time.Time) []Step {
	steps := []Step{
		{Key: "cloud", Text: "The cloud is connected and answers", Done: b.Cloud != "" && b.Refuses == "", Detail: b.Cloud,
			Do: "'kambrel cloud connect' says where it is and with which token; 'kambrel cloud probe' tries each part."},
		{Key: "directory", Text: "A directory is added", Done: len(b.Directories) > 0, Detail: names(b.Directories),
			Do: "'kambrel directory add NAME --dialect DIALECT --base DN' puts it into the draft; nothing is read or written yet."},
	}
	if b.Refuses != "" {
		steps[0].Detail = b.Cloud + ": " + b.Refuses
	}
	steps = append(steps,
		each(b, "agent", "An agent serves each directory", func(d Connected) bool { return d.Agents > 0 }, "no agent is there for %s",
			"'kambrel agent code %s' prints what to run on a host beside it, which only ever connects outward."),
		// Probes are not kept for ever: what was read was well once.
		each(b, "probe", "Each was probed, and nothing is wrong", func(d Connected) bool { return (d.Probe != "" || d.Read) && Outcome(d.Probe) != Bad }, "%s was not probed, or something is wrong",
			"'kambrel directory probe %s' says of each step what to do; 'kambrel directory rights %[1]s' what to ask its owner for."),
		each(b, "read", "Each was read", func(d Connected) bool { return d.Read }, "%s was not read yet",
			"'kambrel directory read' reads into the mirror, from which all is planned; nothing is written."),
		chosen(b),
		Step{Key: "rehearsal", Text: "A rehearsal has told what would become of everybody", Done: b.Rehearsed > 0 || ran(f).Done, // rehearsals go after a while
			Detail: rehearsed(b.Rehearsed), Do: "'kambrel impact' rehearses the draft, person by person: who would be made, taken over, changed, and who is nearly somebody else."},
		activated(f, b),
		ran(f),
	)
	return append(steps, later(f, b, now)...)
}

// each is a step that every directory takes.
func each(b Beginning, key, text string, done func(Connected) bool, not, do string) Step {
	step := Step{Key: key, Text: text, Done: len(b.Directories) > 0, Do: fmt.Sprintf(do, "NAME")}
	var missing []Connected
	for _, d := range b.Directories {
		if !done(d) {
			missing = append(missing, d)
		}
	}
	if len(missing) > 0 {
		step.Done, step.Directory = false, missing[0].Name
		step.Detail, step.Do = fmt.Sprintf(not, names(missing)), fmt.Sprintf(do, missing[0].Name)
	}
	return step
}

func names(directories []Connected) string {
	list := make([]string, len(directories))
	for i, d := range directories {
		list[i] = d.Name
	}
	return strings.Join(list, ", ")
}

// chosen: containers of every directory are included.
func chosen(b Beginning) Step {
	step := Step{Key: "scope", Text: "It is chosen who takes part", Done: b.Draft != nil && len(b.Draft.Directories) > 0,
		Do: "'kambrel scope tree NAME' shows the containers with how many are in each, 'kambrel scope include DN' chooses one; a pilot group begins with few."}
	if b.Draft == nil {
		return step
	}
	for _, d := range b.Draft.Directories {
		if len(d.Containers.Include) == 0 {
			step.Done, step.Directory, step.Detail = false, d.Name, "no container of "+d.Name+" is included"
			return step
		}
	}
	return step
}

func rehearsed(run int64) string {
	if run == 0 {
		return ""
	}
	return fmt.Sprintf("run %d", run)
}

// activated: there are settings, and they have every directory.
func activated(f Facts, b Beginning) Step {
	step := Step{Key: "activation", Text: "The settings are active", Done: f.Settings != nil,
		Do: "'kambrel settings activate --note TEXT' makes the draft revision 1; runs work by it from then on."}
	for _, d := range b.Directories {
		if f.Settings != nil && !d.Active {
			step.Done, step.Detail = false, d.Name+" is in the draft only"
			step.Do = "'kambrel settings activate --note TEXT' makes the draft the next revision."
			break
		}
	}
	return step
}

func ran(f Facts) Step {
	step := Step{Key: "run", Text: "The first run has ended well", Done: f.LastRun != nil && f.LastRun.Failed == "", Do: "'kambrel sync' brings the cloud in step, and tells what it did."}
	switch {
	case f.LastRun == nil:
	case step.Done:
		step.Detail = fmt.Sprintf("run %d was the last", f.LastRun.ID)
	default:
		step.Detail = fmt.Sprintf("run %d failed: %s", f.LastRun.ID, f.LastRun.Failed)
		step.Do = fmt.Sprintf("'kambrel runs show %d' says what to do.", f.LastRun.ID)
	}
	return step
}

// later is what lets one sleep well, in any order.
func later(f Facts, b Beginning, now time.Time) []Step {
	of := func(key, text string, findings []Finding) Step {
		step := Step{Key: key, Text: text, Done: len(findings) > 0, Later: true}
		if f.Settings == nil && (key == "guard" || len(findings) == 0) {
			step.Done, step.Do = false, "It is a part of the settings, which are not active yet."
			return step
		}
		for _, found := range findings {
			step.Detail = found.Detail
			if found.Outcome != Good {
				step.Done, step.Detail, step.Do, step.Directory = false, strings.TrimPrefix(found.Subject+": "+found.Detail, ": "), found.Advice, found.Subject
				break
			}
		}
		return step
	}
	only := func(findings []Finding, step string) []Finding {
		return slices.DeleteFunc(findings, func(one Finding) bool { return one.Step != step })
	}
	steps := []Step{
		of("work", "Changes start runs by themselves", only(going(f, now), "work")),
		of("guard", "The guard holds what nobody means to take away", only(configured(f, now), "settings")),
		of("second-agent", "A second agent takes over where the first is away", only(agents(f, now), "agents")),
		of("administrators", "Nobody is locked out, and nobody signs in by a password alone", only(people(f, now), "administrators")),
		of("notices", "Somebody is told when something fails", notices(f, now)),
		of("backup", "There is a backup", backup(f, now)),
	}
	expected := Step{Key: "expectations", Text: "It is written down what must hold of somebody, whoever edits settings", Later: true,
		Do: "'kambrel expectation add LOGIN' keeps how somebody is now; an activation that would break it says so first."}
	if b.Draft != nil && len(b.Draft.Expect) > 0 {
		expected.Done, expected.Detail = true, fmt.Sprintf("%d expected", len(b.Draft.Expect))
	}
	return append(steps, expected)
}

// Next is the step to take now: the first that the first run needs, or else any; false where
// all is done.
func Next(steps []Step) (Step, bool) {
	for _, later := range []bool{false, true} {
		for _, step := range steps {
			if !step.Done && step.Later == later {
				return step, true
			}
		}
	}
	return Step{}, false
}
