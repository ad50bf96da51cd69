// Package fault holds the one error type that Vornix shows to people.
//
// A Fault says what happened, where, why it matters and what to do about it, and of which kind it is, so that
// the command layer can pick an exit code without reading words. Errors of other types are still errors; they are
// shown as they are, which is right only for what nobody could foresee.
package fault

import (
	"errors"
	"fmt"
)

// Kind sorts faults by what the caller should do next; each kind has an exit code of its own.
type Kind int

// The kinds and the exit codes that docs/commands.md promises for them.
const (
	Failed      Kind = iota // work failed: exit 1
	Usage                   // wrong use of a command: exit 2
	Refused                 // refused so that something is not lost: exit 3
	Unreachable             // a target, a server or a folder outside the project did not answer: exit 4
)

// ExitCode is the process exit code for the kind.
func (k Kind) ExitCode() int { return int(k) + 1 }

// Place is a position in a file. Line and Column count from 1; 0 means "the whole file" or "the whole line".
// Column counts characters, not bytes, so that a caret under the line stands where an editor's cursor would.
type Place struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
}

// String prints file:line:column, leaving out what is not known.
func (p Place) String() string {
	switch {
	case p.Line == 0:
		return p.File
	case p.Column == 0:
		return fmt.Sprintf("%s:%d", p.File, p.Line)
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Fault is an error for a person.
type Fault struct {
	Kind  Kind
	What  string // what happened, one sentence without a full stop
	Place Place  // where, when there is a file
	Why   string // why it matters, or what has not happened because of it
	Do    string // what to do
	Err   error  // the cause, if another error is behind it
}

func (f *Fault) Error() string {
	text := f.What
	if f.Place.File != "" {
		text = f.Place.String() + ": " + text
	}
	if f.Err != nil {
		text += ": " + f.Err.Error()
	}
	return text
}

func (f *Fault) Unwrap() error { return f.Err }

// KindOf is the kind of the first Fault in err's chain; Failed when there is none.
func KindOf(err error) Kind {
	var f *Fault
	if errors.As(err, &f) {
		return f.Kind
	}
	return Failed
}
