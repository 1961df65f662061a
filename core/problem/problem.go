// Package problem is the catalogue of everything that can keep an entry from
// being in sync or a request from being done: a permanent code, a title, the
// cause in plain words and what to do. Call sites pass facts; texts live here.
package problem

import (
	"errors"
	"fmt"

	"kambrel.example/kambrel/core/about"
)

// Error is a problem as a value: the code and the facts of this occurrence.
type Error struct {
	Code Code
	// About is what it is about where the place that met it knows; else that is what
	// the code touches (Kind.Touches).
	About about.Thing
	// Facts are what is particular to this occurrence, and Detail is the text made of
	// them, or prose where the fault is one of input.
	Facts  Facts
	Detail string
	// Faults lists single faults with their place, for input that has several.
	Faults []Fault
	Cause  error
}

// Of returns an error with the code, the facts and the text that is made of them.
func Of(code Code, facts Facts) *Error {
	return &Error{Code: code, Facts: facts, Detail: facts.text(code)}
}

// New returns an error with the code and a detail of its own, for what has no facts
// but what was said.
func New(code Code, format string, facts ...any) *Error {
	return of(code, fmt.Sprintf(format, facts...), nil)
}

// Wrap gives a cause a code and says what was being done.
func Wrap(code Code, cause error, format string, facts ...any) *Error {
	return of(code, fmt.Sprintf(format, facts...)+": "+cause.Error(), cause)
}

func of(code Code, detail string, cause error) *Error {
	return &Error{Code: code, Facts: Facts{Answer: detail}, Detail: detail, Cause: cause}
}

func (e *Error) Error() string {
	text := Describe(e.Code).Title
	if e.Detail != "" {
		text += ": " + e.Detail
	}
	for _, fault := range e.Faults {
		text += "\n  " + fault.String()
	}
	return text
}

// Concerning says what the first problem in the chain is about, where nothing
// below has said it.
func Concerning(thing about.Thing, err error) error {
	var p *Error
	if errors.As(err, &p) && p.About == (about.Thing{}) {
		p.About = thing
	}
	return err
}

func (e *Error) Unwrap() error { return e.Cause }

// FaultsOf lists the single faults of the first problem in the chain, or the problem as one
// where it has none; empty for what is no problem.
func FaultsOf(err error) []Fault {
	var p *Error
	switch {
	case !errors.As(err, &p):
		return nil
	case len(p.Faults) > 0:
		return p.Faults
	}
	return []Fault{{Message: p.Detail}}
}

// CodeOf returns the code of the first problem in the chain, "" if none.
func CodeOf(err error) Code {
	var p *Error
	if errors.As(err, &p) {
		return p.Code
	}
	return ""
}
