package screen

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"

	"tivset/internal/records/job"
)

// Progress shows how a job goes on: one line a stage, on a terminal with a
// line that moves, elsewhere when a stage is done.
type Progress struct {
	s       *Streams
	now     func() time.Time
	began   time.Time // the stage
	painted time.Time
	shown   string          // the title of the line that stands open
	done    string          // the stage that ended last
	told    map[string]bool // stages of the job that were shown as done
	undoing bool
	undone  string // the stage that was taken back last
	waiting string
}

// NewProgress makes one for a run.
func NewProgress(s *Streams, now func() time.Time) *Progress { return &Progress{s: s, now: now} }

func (p *Progress) live() bool { return p.s.moves() }

// Show takes one event of a job.
func (p *Progress) Show(e job.Event) {
	if e.Step == 1 && !e.Done && !e.Undo && e.Count == 0 {
		p.s.begun, p.s.now, p.told = p.now(), p.now, map[string]bool{}
	}
	if p.s.Quiet || p.s.JSON {
		return
	}
	e.Title = p.s.stage(e)
	switch {
	case e.Undo:
		p.undo(e)
	case e.Failed:
		p.line(p.s.paint(bad, "✗"), e.Title)
		p.shown = ""
	case e.Done:
		switch before := p.told[e.Title] && !p.s.Loud; {
		case before && p.done != e.Title: // once each, though steps of a stage come later again
			if p.live() {
				fmt.Fprint(p.s.Err, "\r\x1b[K")
			}
		case p.done != e.Title || p.live(): // several steps in a row may make one stage
			p.line(p.s.paint(good, "✓"), e.Title)
			p.done = e.Title
		}
		if p.told != nil {
			p.told[e.Title] = true
		}
		p.shown = ""
	case e.Count > 0:
		p.count(e)
	default:
		if p.done != e.Title || p.began.IsZero() {
			p.began = p.now()
		}
		p.shown = e.Title
		if p.live() {
			if p.done == e.Title {
				fmt.Fprint(p.s.Err, "\x1b[1A") // over the line of the same stage
			}
			fmt.Fprintf(p.s.Err, "\r\x1b[K  · %s …", Clean(e.Title))
		}
	}
}

// line writes a finished line over the open one.
func (p *Progress) line(mark, title string) {
	start := ""
	if p.live() {
		start = "\r\x1b[K"
	}
	fmt.Fprintf(p.s.Err, "%s  %s %s\n", start, mark, Clean(title))
}

func (p *Progress) undo(e job.Event) {
	if p.shown != "" {
		p.line(p.s.paint(bad, "✗"), p.shown)
		p.shown = ""
	}
	if !p.undoing {
		p.undoing = true
		fmt.Fprintln(p.s.Err, "  Undoing what was begun:")
	}
	if e.Detail == "" {
		if p.undone != e.Title && e.Title != "" {
			p.line("↶", e.Title)
		}
		p.undone = e.Title
	} else if p.waiting != e.Detail {
		p.waiting = e.Detail
		p.line("…", "waiting: "+Clean(e.Detail))
	}
}

// count redraws the open line with a bar and the time left, ten times a second
// at most.
func (p *Progress) count(e job.Event) {
	now := p.now()
	if !p.live() || now.Sub(p.painted) < 100*time.Millisecond && e.Count < e.Total {
		return
	}
	p.painted = now
	p.s.Measure()
	text := fmt.Sprintf("  · %s %s %s", Clean(e.Title), bar(e.Count, e.Total), amount(e))
	switch gone := now.Sub(p.began); {
	case e.Total <= 0: // nobody knows how much it is
		text = fmt.Sprintf("  · %s … %s", Clean(e.Title), plainAmount(e))
	case e.Count >= e.Total: // unpacking, or whatever else has no measure; a full bar would look stuck
		text = fmt.Sprintf("  · %s … %s done, going on", Clean(e.Title), plainAmount(e))
	case gone > 2*time.Second:
		left := time.Duration(float64(gone) / float64(e.Count) * float64(e.Total-e.Count)).Round(time.Second)
		text += fmt.Sprintf(", %s left", left)
	}
	fmt.Fprint(p.s.Err, "\r\x1b[K"+ansi.Truncate(text, max(20, p.s.Width-1), "…"))
}

// plainAmount is how much was done.
func plainAmount(e job.Event) string {
	if e.Unit == "bytes" {
		return humanize.Bytes(uint64(e.Count))
	}
	return strings.TrimSpace(fmt.Sprintf("%d %s", e.Count, e.Unit))
}

// amount is how much of how much.
func amount(e job.Event) string {
	if e.Unit == "bytes" {
		return humanize.Bytes(uint64(e.Count)) + " of " + humanize.Bytes(uint64(e.Total))
	}
	return fmt.Sprintf("%d of %d %s", e.Count, e.Total, e.Unit)
}

func bar(count, total int64) string {
	const width = 16
	full := int(min(count, total) * width / max(total, 1))
	return "[" + strings.Repeat("=", full) + strings.Repeat(" ", width-full) + "]"
}
