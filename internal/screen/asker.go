package screen

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"
)

// Asker asks questions, one line an answer: plain text that works on any
// terminal and with a screen reader.
type Asker struct {
	s     *Streams
	lines chan string
}

// Errors of an Asker.
var (
	ErrNoAnswer = errors.New("nobody answers any more") // Ctrl-C, or the end of the input
	ErrBack     = errors.New("back to the question before")
)

// NewAsker makes an asker. It reads ahead of its questions, so there is one a
// run.
func NewAsker(s *Streams) *Asker {
	a := &Asker{s, make(chan string)}
	go func() {
		in := bufio.NewReader(s.In)
		for {
			line, err := in.ReadString('\n')
			if line != "" || err == nil {
				a.lines <- strings.TrimRight(line, "\r\n")
			}
			if err != nil {
				close(a.lines)
				return
			}
		}
	}()
	return a
}

func (a *Asker) line(ctx context.Context, prompt string) (string, error) {
	fmt.Fprint(a.s.Err, prompt+" ")
	select {
	case <-ctx.Done():
		fmt.Fprintln(a.s.Err)
		return "", ErrNoAnswer
	case line, open := <-a.lines:
		if !open {
			fmt.Fprintln(a.s.Err)
			return "", ErrNoAnswer
		}
		return line, nil
	}
}

// Ask asks until check finds nothing wrong. An empty answer is fallback; “?”
// shows help; “<” goes back.
func (a *Asker) Ask(ctx context.Context, question, fallback, help string, check func(string) (what, remedy string)) (string, error) {
	prompt := a.s.paint(strong, Clean(question))
	if fallback != "" {
		prompt += " " + a.s.paint(faint, "["+Clean(fallback)+"]")
	}
	for {
		answer, err := a.line(ctx, prompt+":")
		if err != nil {
			return "", err
		}
		switch answer {
		case "<":
			return "", ErrBack
		case "?":
			if help == "" {
				help = "Nothing more is known about this."
			}
			a.s.wrapped("  ", "   ", help+" (< goes back, Ctrl-C ends.)")
			continue
		case "":
			answer = fallback
		}
		what, remedy := check(answer)
		if what == "" {
			return answer, nil
		}
		a.Refuse(what, remedy)
	}
}

// Refuse says why an answer will not do.
func (a *Asker) Refuse(what, remedy string) {
	a.s.wrapped("  "+a.s.paint(bad, "✗"), "    ", strings.TrimSpace(what+". "+remedy))
}

// Note shows a text between questions.
func (a *Asker) Note(text string) { fmt.Fprintln(a.s.Err, text) }

// Confirm asks a yes-or-no question; anything but yes is no, and so is the end
// of the context, such as by Ctrl-C.
func (a *Asker) Confirm(ctx context.Context, question string) bool {
	answer, err := a.line(ctx, question+" [y/N]")
	answer = strings.ToLower(strings.TrimSpace(answer))
	return err == nil && (answer == "y" || answer == "yes")
}
