package screen

import (
	"fmt"
	"strings"

	"tivset/internal/fault"
)

// Rules for faults: what happened and to what on the first line; then details,
// then every problem with its remedy, then what to do, on a line of its own.

// Fault writes a fault for a person.
func (s *Streams) Fault(err error) {
	f := fault.Of(err)
	s.wrapped(s.paint(bad, "tivset:"), "        ", first(f))
	for _, d := range f.Details {
		s.wrapped(" ", "  ", d)
	}
	if len(f.Problems) > 1 || len(f.Problems) == 1 && f.Where == "" {
		for _, p := range f.Problems {
			s.wrapped("  "+s.paint(strong, Clean(p.ID))+":", "    ", p.What)
			if p.Remedy != "" {
				s.wrapped("     ", "      ", p.Remedy)
			}
		}
	}
	if f.Remedy != "" {
		s.wrapped("  "+s.paint(accent, "→"), "    ", f.Remedy)
	}
}

// wrapped writes a text behind its head; on a terminal it is broken between
// words, further lines standing behind margin.
func (s *Streams) wrapped(head, margin, text string) {
	line := head + " " + Clean(Spelled(text))
	if s.ErrTerminal && s.Width > 40 {
		line = strings.ReplaceAll(wrap(line, s.Width-len(margin)), "\n", "\n"+margin)
	}
	fmt.Fprintln(s.Err, line)
}

func first(f *fault.Error) string {
	text := f.What
	if f.Where != "" {
		text += " (" + f.Where + ")"
	}
	return because(text, f.Cause)
}

// because adds the cause, unless the text has it already.
func because(text string, cause error) string {
	if cause == nil || strings.Contains(text, cause.Error()) {
		return text
	}
	return text + ": " + cause.Error()
}

// Code gives the exit code of an error.
func Code(err error) int {
	if err == nil {
		return 0
	}
	return int(fault.Of(err).Kind)
}

// outcomes are the words for exit codes in JSON.
var outcomes = map[fault.Kind]string{fault.Failed: "undone", fault.Usage: "refused", fault.NeedsConfirmation: "refused",
	fault.Incomplete: "left"}

// FaultJSON writes a fault for a program.
func (s *Streams) FaultJSON(err error) error { return s.WriteJSON(s.Failed(err)) }

// said is a fault in JSON.
type said struct {
	Code   fault.Code `json:"code"` // see docs/faults.md
	What   string     `json:"what"`
	Where  string     `json:"where"`
	Remedy string     `json:"remedy"`
}

// Outcome is how something ended that failed so, in a word.
func Outcome(err error) string { return outcomes[fault.Of(err).Kind] }

// Failed is the document of a fault.
func (s *Streams) Failed(err error) any {
	f := fault.Of(err)
	return struct {
		Outcome  string          `json:"outcome"`
		Error    said            `json:"error"`
		Details  []string        `json:"details,omitempty"`
		Missing  []string        `json:"missing,omitempty"`
		Problems []fault.Problem `json:"problems,omitempty"`
		Job      string          `json:"job,omitempty"`
	}{outcomes[f.Kind], said{fault.CodeOf(err), because(f.What, f.Cause), f.Where, f.Remedy}, f.Details, f.Missing,
		f.Problems, f.Job}
}
