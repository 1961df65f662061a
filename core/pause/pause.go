// Package pause says what an operator has stopped, and until when.
package pause

import (
	"fmt"
	"slices"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/problem"
)

// Of is what is stopped.
type Of string

// The parts of the work that can be stopped.
const (
	Everything  Of = "everything"  // nothing is written anywhere, and no run begins
	Cloud       Of = "cloud"       // nothing is written to the cloud
	Directories Of = "directories" // nothing is written to any directory
	Directory   Of = "directory"   // one directory is neither read nor written
)

// Pause stops a part of the work, until somebody resumes it or a time has come.
type Pause struct {
	Of        Of
	Directory string // the one directory
	By        string
	Reason    string
	Since     time.Time
	Until     *time.Time
}

// What says what is stopped.
func (p Pause) What() string {
	switch p.Of {
	case Cloud:
		return "nothing is written to the cloud"
	case Directories:
		return "nothing is written to directories"
	case Directory:
		return "directory " + p.Directory + " is paused"
	}
	return "everything is paused"
}

// Text says what is stopped, by whom and why.
func (p Pause) Text() string {
	until := ""
	if p.Until != nil {
		until = ", until " + p.Until.UTC().Format("2006-01-02 15:04 UTC")
	}
	return fmt.Sprintf("%s, by %s since %s%s: %s", p.What(), p.By, p.Since.UTC().Format("2006-01-02 15:04 UTC"), until, p.Reason)
}

// About is what the pause is about.
func (p Pause) About() about.Thing {
	switch p.Of {
	case Directory:
		return about.Thing{Type: about.Directory, Key: p.Directory}
	case Cloud:
		return about.Thing{Type: about.Cloud}
	}
	return about.Thing{Type: about.Service}
}

// Problem is what it is to those who find it.
func (p Pause) Problem() *problem.Error {
	facts := problem.Facts{Value: string(p.Of), Answer: p.Text()}
	if p.Directory != "" {
		facts.Names = []string{p.Directory}
	}
	return problem.Of(problem.Paused, facts)
}

// All are the pauses that hold now.
type All []Pause

func (a All) find(fits func(Pause) bool) (Pause, bool) {
	if at := slices.IndexFunc(a, fits); at >= 0 {
		return a[at], true
	}
	return Pause{}, false
}

// Runs is the pause that lets no run begin that writes.
func (a All) Runs() (Pause, bool) {
	return a.find(func(p Pause) bool { return p.Of == Everything })
}

// ToCloud is the pause that keeps anything from being written to the cloud.
func (a All) ToCloud() (Pause, bool) {
	return a.find(func(p Pause) bool { return p.Of == Everything || p.Of == Cloud })
}

// ToDirectories is the pause that keeps anything from being written to any directory.
func (a All) ToDirectories() (Pause, bool) {
	return a.find(func(p Pause) bool { return p.Of == Everything || p.Of == Directories })
}

// ToDirectory is All.ToDirectory of one directory.
func ToDirectory(name string) func(All) (Pause, bool) {
	return func(a All) (Pause, bool) { return a.ToDirectory(name) }
}

// ToDirectory is the pause that keeps anything from being written to a directory.
func (a All) ToDirectory(name string) (Pause, bool) {
	if p, is := a.ToDirectories(); is {
		return p, true
	}
	return a.OfDirectory(name)
}

// OfDirectory is the pause of one directory, which is not read either.
func (a All) OfDirectory(name string) (Pause, bool) {
	return a.find(func(p Pause) bool { return p.Of == Directory && p.Directory == name })
}
