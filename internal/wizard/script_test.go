package wizard_test

import (
	"context"
	"fmt"
	"slices"

	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/hostmail"
	"tivset/internal/plan"
	"tivset/internal/wizard"
)

// script answers questions in turn, and keeps all that is shown. It is a whole
// conversation partner without a terminal.
type script struct {
	t     *testing.T
	lines []line
	at    int
	said  []string
	plans []*plan.Plan
	form  wizard.Form // that was shown last
	yes   bool        // to every confirmation
}

// line is the beginning of a question that is expected, and what is answered:
// "" is Enter, "<" goes back, stop is Ctrl-C, "#title" the number of the line title. Before runs first: what the world
// does while somebody thinks.
type line struct {
	question, answer string
	before           func()
}

const stop = "\x03"

func (s *script) next(text string) (string, error) {
	if s.at == len(s.lines) {
		return "", wizard.ErrNoAnswer
	}
	l := s.lines[s.at]
	s.at++
	require.True(s.t, strings.HasPrefix(text, l.question), "asked %q, and the script has %q\n%s", text, l.question,
		s.heard())
	if l.before != nil {
		l.before()
	}
	if id, number := strings.CutPrefix(l.answer, "#"); number {
		return s.form.Lines[slices.IndexFunc(s.form.Lines, func(x wizard.Line) bool { return x.ID == id })].Number, nil
	}
	switch l.answer {
	case stop:
		return "", wizard.ErrNoAnswer
	case "<":
		return "", wizard.ErrBack
	}
	return l.answer, nil
}

func (s *script) Ask(_ context.Context, p wizard.Prompt) (string, error) {
	if p.Above != "" {
		s.Explain(p.Above)
	}
	for {
		word, err := s.next(p.Text)
		if err != nil {
			return "", err
		}
		if word == "" {
			word = p.Fallback
		}
		if p.Check == nil {
			return word, nil
		}
		what, remedy := p.Check(word)
		if what == "" {
			return word, nil
		}
		s.Refuse(what, remedy)
	}
}

func (s *script) Word(_ context.Context, prompt string) (string, error) { return s.next(prompt) }

func (s *script) Confirm(_ context.Context, question string) bool {
	s.say("confirm", question)
	return s.yes
}

func (s *script) Sure(ctx context.Context, question, _ string) bool { return s.Confirm(ctx, question) }

func (s *script) say(how, text string)       { s.said = append(s.said, how+" "+text) }
func (s *script) heard() string              { return strings.Join(s.said, "\n") }
func (s *script) Heading(text string)        { s.say("#", text) }
func (s *script) Explain(text string)        { s.say("explain", text) }
func (s *script) Note(text string)           { s.say("note", text) }
func (s *script) Address(text string)        { s.say("address", text) }
func (s *script) Good(text string)           { s.say("good", text) }
func (s *script) Warn(text string)           { s.say("warn", text) }
func (s *script) Refuse(what, remedy string) { s.say("refuse", what+"; "+remedy) }
func (s *script) Fault(err error)            { s.say("fault", err.Error()) }

func (s *script) Facts(said []hostmail.Said) {
	for _, x := range said {
		s.Note(fmt.Sprint(x.Line, ": ", x.Text, " → ", strings.Join(x.Facts, " · ")))
	}
}

// Review keeps the plan, and the form's lines with their numbers.
func (s *script) Review(p *plan.Plan, f wizard.Form) {
	s.plans, s.form = append(s.plans, p), f
	for i, l := range f.Lines {
		s.say("line", fmt.Sprintf("%d %s %s: %s", i+1, l.Group, l.ID, l.Text))
	}
}

func (s *script) List(rows [][]string) {
	for _, r := range rows {
		s.say("row", strings.Join(r, " | "))
	}
}
