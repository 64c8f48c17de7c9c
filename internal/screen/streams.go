// Package screen is all that a person sees: tables, the review, progress,
// questions, faults, and the JSON that other programs read. It decides nothing.
//
// Results go to standard output; progress, reviews, questions and faults to
// standard error.
package screen

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"time"

	"charm.land/lipgloss/v2"
	quick "github.com/segmentio/encoding/json" // writes thousands of sites in half the time
	"golang.org/x/term"
)

// Streams are where a run reads and writes, and what is known of them.
type Streams struct {
	In           io.Reader
	Out, Err     io.Writer
	Terminal     *os.File // that of Err, where it is one
	OutTerminal  bool
	ErrTerminal  bool
	InTerminal   bool
	Dumb         bool // the terminal cannot move its cursor
	Width        int  // in columns
	Color        bool
	Quiet, Loud  bool
	JSON         bool
	ShowPassword bool
	Idle         string // why nothing does what the care of sites says, with what changes it; "" where something does
	Copies       bool   // the password goes to the clipboard instead

	begun  time.Time // when the last job began …
	now    func() time.Time
	editor *editor
	typed  *bufio.Reader
}

// Measure has the streams know how wide the terminal is now: whoever sits there may have changed it.
func (s *Streams) Measure() {
	if s.Terminal == nil {
		return
	}
	if width, _, err := term.GetSize(int(s.Terminal.Fd())); err == nil && width > 0 {
		s.Width = width
	}
}

// Asks says whether somebody is there to answer.
func (s *Streams) Asks() bool { return s.InTerminal && s.ErrTerminal && !s.JSON }

// The few styles. Meaning never rests on them alone.
var (
	strong = lipgloss.NewStyle().Bold(true)
	faint  = lipgloss.NewStyle().Faint(true)
	good   = lipgloss.NewStyle().Foreground(lipgloss.Green)
	bad    = lipgloss.NewStyle().Foreground(lipgloss.Red).Bold(true)
	accent = lipgloss.NewStyle().Foreground(lipgloss.Cyan)
)

// paint applies a style where colours are wanted.
func (s *Streams) paint(style lipgloss.Style, text string) string {
	if !s.Color || text == "" {
		return text
	}
	return style.Render(safe(text)) // part of it may be painted already
}

// Say writes a message for a person, unless the run is quiet.
func (s *Streams) Say(format string, args ...any) {
	if s.Quiet || s.JSON {
		return
	}
	text := fmt.Sprintf(format, cleaned(args)...) + "\n"
	if s.ErrTerminal {
		text = s.Folded(text)
	}
	fmt.Fprint(s.Err, text)
}

// Warn writes a warning, even in a quiet run.
func (s *Streams) Warn(text string) {
	if !s.JSON {
		s.wrapped(s.paint(accent, "Note:"), "  ", text)
	}
}

// Note writes a warning where nothing else is wanted on standard output, in JSON
// too: it goes to standard error.
func (s *Streams) Note(text string) { s.wrapped(s.paint(bad, "Note:"), "  ", text) }

// Print writes a line of the result.
func (s *Streams) Print(format string, args ...any) {
	fmt.Fprintf(s.Out, format+"\n", cleaned(args)...)
}

// readable is up to which size a document is set for people to read as well.
const readable = 64 << 10

// WriteJSON writes one document, the only thing on standard output.
func (s *Streams) WriteJSON(v any) error {
	var text bytes.Buffer
	e := quick.NewEncoder(&text)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	plain := escaped(text.Bytes())
	if len(plain) > readable {
		_, err := s.Out.Write(plain)
		return err
	}
	var set bytes.Buffer
	if err := json.Indent(&set, plain, "", "  "); err != nil {
		return err
	}
	_, err := s.Out.Write(set.Bytes())
	return err
}

// WriteLine writes one document on one line.
func (s *Streams) WriteLine(v any) error {
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	_, err := s.Out.Write(escaped(text.Bytes()))
	return err
}
