package screen

import (
	"fmt"
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

// Ended shows how a job ended: what came of it, and whether that is well; or why nothing did.
func (w *Watch) Ended(name, says string, well bool, err error) {
	w.under = slices.DeleteFunc(w.under, func(u *underWay) bool { return u.name == name })
	if w.s.JSON || w.s.Quiet && err == nil && well {
		return
	}
	w.clear()
	if err != nil {
		f := fault.Of(err)
		w.s.wrapped(fmt.Sprintf("  %s %s:", w.s.paint(bad, "✗"), Clean(name)), "    ",
			Outcome(err)+". "+because(f.What, f.Cause)+". "+f.Remedy)
	} else {
		mark := w.s.paint(good, "✓")
		if !well {
			mark = w.s.paint(bad, "✗")
		}
		w.s.wrapped("  "+mark+" "+Clean(name)+":", "    ", says)
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
