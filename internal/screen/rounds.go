package screen

import (
	"fmt"
	"strings"
	"time"

	"tivset/internal/records/home"
	"tivset/internal/records/ledger"
	"tivset/internal/work/rehearse"
	"tivset/internal/work/rounds"
)

// Rehearsed shows what a rehearsal came to: the pages of the site beside those of the copy.
func (s *Streams) Rehearsed(r *rehearse.Rehearsed) {
	end := s.paint(good, "all is well")
	if !r.OK {
		end = s.paint(bad, "it would not do")
	}
	s.Say("Rehearsed on a copy, which is gone again: %s to %s in %s, and %s.", r.From, r.To, lasted(r.Took), end)
	if len(r.Pages) > 0 {
		s.Say("  %-28s %-16s %s", "page", "now", "then")
	}
	for _, p := range r.Pages {
		s.Say("  %-28s %-16s %s", "/"+p.Path, seen(p.Before), seen(p.After))
	}
}

func seen(p rehearse.Seen) string {
	text := fmt.Sprintf("%d, %d ms", p.Status, p.Millis)
	if p.Status == 0 {
		text = "no answer"
	}
	if p.Errors > 0 {
		text += fmt.Sprintf(", %s of PHP", Counted(p.Errors, "error"))
	}
	return text
}

// RoundLine shows what a round did at a site, or met, as it comes.
func (s *Streams) RoundLine(l rounds.Line) {
	if s.Quiet && l.What != rounds.Trouble {
		return
	}
	style := good
	if l.What == rounds.Trouble {
		style = bad
	}
	text := l.Detail
	if l.Remedy != "" {
		text += "\n" + l.Remedy
	}
	s.Print("%s", s.paint(style, fmt.Sprintf("%-10s", l.What))+" "+s.roundText(l.Site.Address, text, 11))
}

// roundText lays what a line of a round says out below its beginning.
func (s *Streams) roundText(address, text string, indent int) string {
	lines := strings.Split(s.fold(Clean(Spelled(address+"  "+text)), indent), "\n")
	return strings.Join(lines, "\n"+strings.Repeat(" ", indent))
}

// LastRounds says when this machine made its last round, and what the last one did that did
// anything, on whichever machine.
func (s *Streams) LastRounds(r home.Rounds, did []ledger.Round) {
	const moment = "2 January 2006, 15:04"
	if r.At.IsZero() {
		s.Print("No maintenance run was made here yet.")
	} else {
		s.Print("The last one was made on %s and took %.1f s.", r.At.Local().Format(moment), r.Seconds)
	}
	if len(did) == 0 {
		return
	}
	if last := did[0]; !last.At.Equal(r.At) {
		s.Print("The last that had something to do was made on %s, by %s:", last.At.Local().Format(moment), last.Who)
	}
	for _, l := range did[0].Lines {
		s.Print("  %-10s %s", l.What, s.roundText(l.Address, l.Detail, 13))
	}
}

// LongUnderWay is after which time a round that is under way is told of as one that something holds up.
const LongUnderWay = 3 * time.Hour

// UnderWay says since when a round is under way; nothing where none is.
func (s *Streams) UnderWay(since, now time.Time) {
	switch {
	case since.IsZero():
	case now.Sub(since) > LongUnderWay:
		s.Print("! A maintenance run has been under way for %.0f hours, since %s. See what it waits for: tivset jobs. It "+
			"can be ended with Ctrl-C, or by the signal TERM; the next one goes on.", now.Sub(since).Hours(),
			since.Local().Format("2 January, 15:04"))
	default:
		s.Print("A maintenance run has been under way since %s.", since.Local().Format("2 January, 15:04"))
	}
}

// Rounded says how a round ended.
func (s *Streams) Rounded(r *rounds.Round) {
	for _, err := range append(r.Unseen, r.Unsent...) {
		s.Note(err.Error())
	}
	took := fmt.Sprintf("%.2f s", r.Took.Seconds())
	switch {
	case r.Another:
		s.Say("Another maintenance run is under way.")
	case len(r.Lines) == 0:
		s.Say("%s looked at in %s: nothing is due.", Counted(r.Sites, "site"), took)
	default:
		s.Say("%s looked at in %s.", Counted(r.Sites, "site"), took)
	}
}
