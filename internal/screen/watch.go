package screen

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"tivset/internal/fault"
	"tivset/internal/records/job"
)

// Watch shows how several jobs go on side by side: a line for each that has ended, and on a
// terminal below them one that moves for each that is under way.
type Watch struct {
	s       *Streams
	now     func() time.Time
	under   []*underWay
	drawn   int // lines that stand open below
	painted time.Time
}

// underWay is a job that has begun.
type underWay struct{ name, stage string }

// Watch begins to show several jobs.
func (s *Streams) Watch(now func() time.Time) *Watch {
	s.begun, s.now = now(), now
	return &Watch{s: s, now: now}
}

// Stage shows what a job is at.
func (w *Watch) Stage(name string, e job.Event) {
	if w.s.Quiet || w.s.JSON {
		return
	}
	if !w.s.moves() {
		if w.s.Loud && e.Done && !e.Undo {
			w.s.Say("  %s %s: %s", w.s.paint(faint, "·"), name, e.Title)
		}
		return
	}
	text := w.s.stage(e)
	switch {
	case e.Undo:
		text = "undoing: " + text
	case e.Count > 0:
		text += " " + bar(e.Count, e.Total) + " " + amount(e)
	}
	n := slices.IndexFunc(w.under, func(u *underWay) bool { return u.name == name })
	if n < 0 {
		n = len(w.under)
		w.under = append(w.under, &underWay{name: name})
	}
	w.under[n].stage = text
	if now := w.now(); now.Sub(w.painted) >= 100*time.Millisecond {
		w.painted = now
		w.paint()
	}
}

// Ended shows how a job ended: what came of it, or why nothing did.
func (w *Watch) Ended(name, says string, err error) {
	w.under = slices.DeleteFunc(w.under, func(u *underWay) bool { return u.name == name })
	if w.s.JSON || w.s.Quiet && err == nil {
		return
	}
	w.clear()
	if err != nil {
		f := fault.Of(err)
		w.s.wrapped(fmt.Sprintf("  %s %s:", w.s.paint(bad, "✗"), Clean(name)), "    ",
			Outcome(err)+". "+because(f.What, f.Cause)+". "+f.Remedy)
	} else {
		w.s.Say("  %s %s: %s", w.s.paint(good, "✓"), name, says)
	}
	w.paint()
}

// Close takes away what moves.
func (w *Watch) Close() { w.clear() }

// clear takes the open lines away; the cursor stands where the first was.
func (w *Watch) clear() {
	fmt.Fprint(w.s.Err, strings.Repeat("\x1b[1A\r\x1b[K", w.drawn))
	w.drawn = 0
}

func (w *Watch) paint() {
	if w.s.Quiet || w.s.JSON || !w.s.moves() {
		return
	}
	w.clear()
	var out strings.Builder
	for _, u := range w.under {
		text := ansi.Truncate(fmt.Sprintf("  · %s  %s", Clean(u.name), Clean(u.stage)), max(20, w.s.Width-1), "…")
		out.WriteString(text + "\n")
	}
	fmt.Fprint(w.s.Err, out.String())
	w.drawn = len(w.under)
}

// moves says whether lines can be written over.
func (s *Streams) moves() bool { return s.ErrTerminal && !s.Dumb }

// CannotNow words, in a review of several, one that cannot be looked at now.
func (s *Streams) CannotNow(name string, err error) string {
	f := fault.Of(err)
	return s.paint(bad, "Not done:") + " " + Clean(name) + ": " + Clean(Spelled(because(f.What, f.Cause))) + "\n"
}

// SeveralEnded says how many of several were done and how many were not.
func (s *Streams) SeveralEnded(done, failed int) {
	style, text := good, fmt.Sprintf("%d done", done)
	if failed > 0 {
		style, text = bad, text+fmt.Sprintf(", %d not: run the same again when that is mended", failed)
	}
	s.Print("\n%s %s", s.paint(style, text+"."), s.proven(nil))
}

// RowResult is what came of one of several.
type RowResult struct {
	Line int // of a table; 0 where there is none
	Site string

	Outcome, Says string // in a word, and more
	Err           error
}

// WriteRows writes what came of several as a table (RFC 4180). What a spreadsheet would take
// for a formula is text.
func WriteRows(to io.Writer, all []RowResult) error {
	w := csv.NewWriter(to)
	_ = w.Write([]string{"line", "address", "outcome", "problem", "what came of it"})
	for _, r := range all {
		row := []string{"", r.Site, r.Outcome, "", r.Says}
		if r.Line > 0 {
			row[0] = fmt.Sprint(r.Line)
		}
		if r.Err != nil {
			f := fault.Of(r.Err)
			row[2], row[3] = Outcome(r.Err), Spelled(because(f.What, f.Cause))
		}
		for i := range row {
			row[i] = cell(row[i])
		}
		_ = w.Write(row)
	}
	w.Flush()
	return w.Error()
}
