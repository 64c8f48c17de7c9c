package wizard

import (
	"context"
	"errors"
	"strings"

	"tivset/internal/hosting/hostmail"
	"tivset/internal/plan"
)

// Asker puts questions to somebody and shows what stands between them. It cleans
// what others wrote before anybody sees it.
type Asker interface {
	// Ask asks until the check finds nothing wrong with the answer. ErrBack for
	// the question before, ErrNoAnswer when nobody answers any more.
	Ask(ctx context.Context, p Prompt) (string, error)

	// Word asks for a word and gives it in lower case. ErrNoAnswer as above.
	Word(ctx context.Context, prompt string) (string, error)

	// Confirm asks a yes-or-no question; anything but yes is no.
	Confirm(ctx context.Context, question string) bool

	// Sure is Confirm with an explanation for whoever answers “?”.
	Sure(ctx context.Context, question, help string) bool

	Heading(text string)        // begins a group of questions
	Explain(text string)        // a text set off from the questions
	Note(text string)           // a text between them
	List(rows [][]string)       // numbered rows to choose from
	Facts(said []hostmail.Said) // what was understood, and of which line
	Address(text string)        // the address that the answers so far lead to
	Good(text string)           // something was tried and works
	Warn(text string)           // what one should know before going on
	Refuse(what, remedy string) // why an answer will not do
	Fault(err error)            // a fault, after which the questions go on

	// Review shows all that is about to happen, and what of it can be changed by which
	// number. Without a plan it shows the answers.
	Review(p *plan.Plan, form Form)
}

// Prompt is one question.
type Prompt struct {
	Above    string // shown first, on a line of its own
	Text     string
	Fallback string // what an empty line answers
	Help     string
	Unseen   bool     // typed without echo
	Pasted   bool     // several lines that are pasted are one answer
	Words    []string // what Tab completes
	Check    func(string) (what, remedy string)
}

// Errors of an Asker.
var (
	ErrNoAnswer = errors.New("nobody answers any more") // Ctrl-C, or the end of the input
	ErrBack     = errors.New("back to the question before")
)

// OneLine writes a text of several lines on one.
func OneLine(text string) string {
	var lines []string
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line != "" {
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, " / ")
}
