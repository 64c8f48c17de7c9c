// Package fault holds the one error type that carries what a person needs to
// go on: what happened, to what, and what to do about it.
//
// Every package returns these for things a person can mend; the screen words
// them and the command turns their Kind into the exit code. A fault never
// holds a secret.
package fault

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// Kind says how a run ended, in the terms of the exit codes.
type Kind int

// The kinds, by the exit code that each leads to.
const (
	Failed            Kind = iota + 1 // it failed, and everything that was begun was undone
	Usage                             // the call or the answers are wrong; nothing was touched
	NeedsConfirmation                 // somebody has to decide something; nothing was touched
	Incomplete                        // something is left to resume or to undo
)

// Problem is one thing wrong with one answer or one line of a file.
type Problem struct {
	ID     string `json:"id"`               // the answer's id, or FILE:LINE
	What   string `json:"what"`             // what is wrong with it
	Remedy string `json:"remedy,omitempty"` // what to do about it
}

// Error is a fault with a remedy.
type Error struct {
	Kind     Kind
	Code     Code      // for programs; "" for the general one of the kind
	What     string    // what happened
	Where    string    // to what: an address, a file, a server
	Remedy   string    // a command to type or a fact to check
	Missing  []string  // ids of answers that are needed and were not given
	Problems []Problem // all that is wrong, when it is more than one thing
	Details  []string  // lines that help to understand, such as what is in the way
	Job      string    // the job that it happened in, if there was one
	Busy     bool      // another job is at work there, and will come to its end
	Cause    error
}

// Error gives what, where and the cause in one line, without the remedy.
func (e *Error) Error() string {
	text := e.What
	if e.Where != "" {
		text += ": " + e.Where
	}
	if e.Cause != nil {
		text += ": " + e.Cause.Error()
	}
	return text
}

// Unwrap gives the cause, so that errors.Is and errors.As see through.
func (e *Error) Unwrap() error { return e.Cause }

// New makes a fault of the kind.
func New(kind Kind, what, where, remedy string) *Error {
	return &Error{Kind: kind, What: what, Where: where, Remedy: remedy}
}

// Coded adds the code and returns the fault.
func (e *Error) Coded(code Code) *Error {
	e.Code = code
	return e
}

// NewAs makes a fault of the kind with a code.
func NewAs(code Code, kind Kind, what, where, remedy string) *Error {
	return New(kind, what, where, remedy).Coded(code)
}

// Wrap adds the cause and returns the fault.
func (e *Error) Wrap(cause error) *Error {
	e.Cause = cause
	return e
}

// Of gives the fault inside err; an error that is none becomes a Failed one,
// and no error an empty one.
func Of(err error) *Error {
	if err == nil {
		return &Error{}
	}
	var e *Error
	if errors.As(err, &e) {
		return e
	}
	return &Error{Kind: Failed, What: err.Error()}
}

// inside gives the fault in an error, nil where there is none.
func inside(err error) *Error {
	var e *Error
	if errors.As(err, &e) {
		return e
	}
	return nil
}

// WasInterrupted words the end of something that somebody ended with Ctrl-C outside
// of a job; a job says itself what became of it, and every other error stays.
func WasInterrupted(ctx context.Context, err error) error {
	if ctx.Err() == nil || !errors.Is(err, context.Canceled) {
		return err
	}
	return NewAs(Interrupted, Of(err).Kind, "interrupted", "", "Run the command again when you are ready.")
}

// Join makes one usage fault of many problems, or nil when there are none.
// Problems whose What is Needed also count as missing.
func Join(what, remedy string, problems []Problem) error {
	if len(problems) == 0 {
		return nil
	}
	e := &Error{Kind: Usage, What: what, Remedy: remedy, Problems: problems}
	for _, p := range problems {
		if p.What == Needed {
			e.Missing = append(e.Missing, p.ID)
		}
	}
	return e
}

// Needed is the What of a problem with an answer that was not given.
const Needed = "needed, and not given"

// String lists the problems one a line.
func (p Problem) String() string {
	return strings.TrimSpace(fmt.Sprintf("%s: %s. %s", p.ID, p.What, p.Remedy))
}
