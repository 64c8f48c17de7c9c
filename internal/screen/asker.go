package screen

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"tivset/internal/hosting/hostmail"
	"tivset/internal/plan"
	"tivset/internal/wizard"
)

// Asker asks questions, one line an answer: plain text that works on any
// terminal and with a screen reader.
type Asker struct{ s *Streams }

var _ wizard.Asker = (*Asker)(nil)

// NewAsker makes an asker. All of a run read from the same buffer, so that nothing that
// is typed ahead is lost.
func NewAsker(s *Streams) *Asker {
	if s.editor == nil {
		s.editor = newEditor(s)
	}
	if s.typed == nil {
		s.typed = bufio.NewReader(s.In)
	}
	return &Asker{s}
}

type typed struct {
	line string
	err  error
}

// line shows a prompt and waits for a line, or for the end of the context.
func (a *Asker) line(ctx context.Context, prompt string, p wizard.Prompt) (string, error) {
	if a.s.editor == nil {
		return a.plain(ctx, prompt, p)
	}
	done, err := a.s.editor.begin()
	if err != nil {
		return a.plain(ctx, prompt, p)
	}
	defer done()
	return a.wait(ctx, func() typed {
		line, err := a.s.editor.read(prompt+" ", p.Words, p.Unseen, p.Pasted)
		return typed{line, err}
	})
}

// plain reads a line where it cannot be edited. The echo is off before the prompt is
// there, so that no fast typist is seen.
func (a *Asker) plain(ctx context.Context, prompt string, p wizard.Prompt) (string, error) {
	f, isFile := a.s.In.(*os.File)
	if isFile && p.Unseen {
		if restore := unseen(int(f.Fd())); restore != nil {
			defer fmt.Fprintln(a.s.Err) // the line end was not shown either
			defer restore()
		}
		if a.s.InTerminal {
			a.drop(int(f.Fd()))
		}
	}
	fmt.Fprint(a.s.Err, prompt+" ")
	return a.wait(ctx, func() typed {
		first := a.read()
		for first.err == nil && p.Pasted && isFile && a.s.InTerminal && (a.s.typed.Buffered() > 0 || typedAhead(int(f.Fd()),
			pasteGap)) {
			next := a.read()
			first.line, first.err = first.line+"\n"+next.line, next.err
		}
		return typed{strings.TrimRight(first.line, "\n"), first.err}
	})
}

// drop forgets what was typed before a password was asked for.
func (a *Asker) drop(fd int) {
	for a.s.typed.Buffered() > 0 || typedAhead(fd, 0) {
		if n, err := a.s.typed.Discard(max(1, a.s.typed.Buffered())); err != nil || n == 0 {
			return
		}
	}
}

func (a *Asker) wait(ctx context.Context, read func() typed) (string, error) {
	got := make(chan typed, 1)
	go func() { got <- read() }()
	select {
	case <-ctx.Done():
		fmt.Fprintln(a.s.Err)
		return "", wizard.ErrNoAnswer
	case t := <-got:
		if t.err != nil {
			fmt.Fprintln(a.s.Err)
			return "", wizard.ErrNoAnswer
		}
		return t.line, nil
	}
}

func (a *Asker) read() typed {
	line, err := a.s.typed.ReadString('\n')
	if line != "" {
		err = nil
	}
	return typed{strings.TrimRight(line, "\r\n"), err}
}

// Ask asks until the check finds nothing wrong. “?” shows help; “<” goes back.
func (a *Asker) Ask(ctx context.Context, p wizard.Prompt) (string, error) {
	a.s.Measure()
	prompt := a.s.paint(strong, Clean(p.Text))
	if p.Fallback != "" {
		prompt += " " + a.s.paint(faint, "["+Clean(p.Fallback)+"]")
	}
	if p.Above != "" {
		a.Explain(p.Above)
	}
	for {
		answer, err := a.line(ctx, prompt+":", p)
		if err != nil {
			return "", err
		}
		if p.Unseen && strings.Contains(answer, "\n") {
			a.Refuse("a password is one line", "Paste it alone, or type it.")
			continue
		}
		if !p.Unseen { // of a password a space may be a part: that is refused, and not changed
			answer = strings.TrimSpace(answer)
		}
		switch answer {
		case "<":
			return "", wizard.ErrBack
		case "?":
			help := p.Help
			if help == "" {
				help = "Nothing more is known about this."
			}
			a.Explain(help + " (< goes back, Ctrl-C ends.)")
			continue
		case "":
			answer = p.Fallback
		}
		what, remedy := "", ""
		if p.Check != nil {
			what, remedy = p.Check(answer)
		}
		if what == "" {
			return answer, nil
		}
		a.Refuse(what, remedy)
	}
}

// Explain shows a text between questions, set off from them.
func (a *Asker) Explain(text string) { a.s.wrapped("  ", "   ", text) }

// Refuse says why an answer will not do.
func (a *Asker) Refuse(what, remedy string) {
	a.s.wrapped("  "+a.s.paint(bad, "✗"), "    ", strings.TrimSpace(strings.TrimSuffix(what, ".")+". "+remedy))
}

// Warn says what the owner should know before going on.
func (a *Asker) Warn(text string) {
	a.s.wrapped("  "+a.s.paint(bad, "!"), "    ", sentence(text))
}

// Good says that something was tried and works.
func (a *Asker) Good(text string) { a.s.wrapped("  "+a.s.paint(good, "✓"), "    ", text) }

// Heading begins a group of questions.
func (a *Asker) Heading(text string) { fmt.Fprintln(a.s.Err, "\n"+a.s.paint(accent, text)) }

// Note shows a text between questions.
func (a *Asker) Note(text string) { fmt.Fprintln(a.s.Err, Clean(text)) }

// Review shows what is about to happen as a form, even in a quiet run.
func (a *Asker) Review(p *plan.Plan, form wizard.Form) {
	a.s.Measure()
	fmt.Fprintln(a.s.Err, "\n"+a.s.Form(p, form))
}

// List shows numbered rows to choose from, in columns; what is long goes on below itself.
func (a *Asker) List(rows [][]string) {
	var widths []int
	for n := range rows {
		rows[n] = append([]string{fmt.Sprintf("  %2d", n+1)}, rows[n]...)
		for i, cell := range rows[n] {
			rows[n][i] = Clean(cell)
			if i >= len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], width(cell))
		}
	}
	if a.s.ErrTerminal && a.s.Width > 20 {
		fit(widths, a.s.Width)
	}
	for _, row := range rows {
		for _, line := range lines(row, widths) {
			fmt.Fprintln(a.s.Err, line)
		}
	}
}

// Facts shows what was understood, below the line that says it.
func (a *Asker) Facts(said []hostmail.Said) { fmt.Fprint(a.s.Err, a.s.facts(said)) }

// Facts prints what was understood, below the line that says it.
func (s *Streams) Facts(said []hostmail.Said) { s.Print("%s", strings.TrimRight(s.facts(said), "\n")) }

func (s *Streams) facts(said []hostmail.Said) string {
	const margin = 11
	var out strings.Builder
	for _, x := range said {
		head := ""
		if x.Line > 0 {
			text := ansi.Truncate(CleanName(x.Text), max(s.Width-margin, 60), "…")
			fmt.Fprintf(&out, "  %-*s%s\n", margin-2, fmt.Sprint("line ", x.Line), s.paint(faint, text))
			head = strings.Repeat(" ", margin)
		} else {
			head = "  "
		}
		for _, f := range x.Facts {
			out.WriteString(head + s.paint(good, "✓") + " " + CleanName(f) + "\n")
		}
	}
	return out.String()
}

// Address shows the address that the answers so far lead to.
func (a *Asker) Address(text string) { fmt.Fprintln(a.s.Err, "  → "+a.s.paint(accent, Clean(text))) }

// Fault shows a fault, after which the questions go on.
func (a *Asker) Fault(err error) { a.s.Fault(err) }

// Confirm asks a yes-or-no question; anything but yes is no, and so is the end
// of the context, such as by Ctrl-C.
func (a *Asker) Confirm(ctx context.Context, question string) bool {
	answer, err := a.Word(ctx, question+" [y/N]")
	return err == nil && (answer == "y" || answer == "yes")
}

// Sure asks a yes-or-no question that “?” explains.
func (a *Asker) Sure(ctx context.Context, question, help string) bool {
	for {
		answer, err := a.Word(ctx, question+" [y/N/?]")
		if err != nil || answer != "?" {
			return err == nil && (answer == "y" || answer == "yes")
		}
		a.Explain(help)
	}
}

// Word asks for a word, in lower case.
func (a *Asker) Word(ctx context.Context, prompt string) (string, error) {
	answer, err := a.line(ctx, prompt, wizard.Prompt{})
	return strings.ToLower(strings.TrimSpace(answer)), err
}

// sentence writes a text with a capital and a full stop.
func sentence(text string) string {
	if text == "" {
		return text
	}
	runes := []rune(text)
	first := text
	if word, _, _ := strings.Cut(text, " "); !strings.Contains(word, ".") { // a domain keeps its case
		first = strings.ToUpper(string(runes[0])) + string(runes[1:])
	}
	if strings.ContainsRune(".!?:", runes[len(runes)-1]) {
		return first
	}
	return first + "."
}
