package screen

import (
	"errors"
	"io"
	"os"
	"strings"

	"golang.org/x/term"
)

// editor reads lines that can be edited while they are typed: arrows, what was typed
// before, Tab. It needs a terminal that can move its cursor.
type editor struct {
	in, out *os.File
	line    *term.Terminal
	width   int
	words   []string // what Tab offers
	tab     tabbed
}

// both joins the two directions of a terminal.
type both struct {
	io.Reader
	io.Writer
}

// newEditor gives an editor, or nil where lines cannot be edited.
func newEditor(s *Streams) *editor {
	in, ok := s.In.(*os.File)
	if !ok || s.Terminal == nil || !s.InTerminal || s.Dumb {
		return nil
	}
	e := &editor{in: in, out: s.Terminal, width: s.Width}
	e.line = term.NewTerminal(both{&pasted{from: in}, e.out}, "")
	e.line.AutoCompleteCallback = e.complete
	return e
}

// begin readies the terminal for a line, and gives what leaves it as it was.
func (e *editor) begin() (done func(), err error) {
	before, err := term.MakeRaw(int(e.in.Fd()))
	if err != nil {
		return nil, err
	}
	e.line.SetBracketedPasteMode(true)
	return func() {
		_, _ = e.out.WriteString("\x1b[?2004l") // what is pasted is no longer marked
		_ = term.Restore(int(e.in.Fd()), before)
	}, nil
}

// read gives a line, or several that were pasted at once, joined by line ends. The error
// is io.EOF for Ctrl-C, Ctrl-D and the end of the input.
func (e *editor) read(prompt string, words []string, hide bool) (string, error) {
	if width, height, err := term.GetSize(int(e.out.Fd())); err == nil && width > 0 {
		_ = e.line.SetSize(width, height)
	}
	e.words, e.tab = words, tabbed{}
	e.line.SetPrompt(prompt)
	var lines []string
	for {
		line, err := e.one(prompt, hide)
		lines = append(lines, line)
		if !errors.Is(err, term.ErrPasteIndicator) {
			return strings.TrimRight(strings.Join(lines, "\n"), "\n"), err
		}
		prompt = ""
		e.line.SetPrompt("")
	}
}

func (e *editor) one(prompt string, hide bool) (string, error) {
	if hide {
		return e.line.ReadPassword(prompt)
	}
	return e.line.ReadLine()
}

// tabbed is how far Tab has come through what it offers.
type tabbed struct {
	start string // what was typed
	made  string // what stands there by Tab
	next  int
}

// complete answers Tab: what all words that begin so have in common, and then one word
// after the other.
func (e *editor) complete(line string, at int, key rune) (string, int, bool) {
	if key != '\t' || at != len(line) {
		return "", 0, false
	}
	if e.tab.made == "" || e.tab.made != line {
		e.tab = tabbed{start: line}
	}
	found := beginningWith(e.words, e.tab.start)
	if len(found) == 0 {
		return line, at, true
	}
	made := common(found)
	if len(made) <= len(line) || e.tab.made != "" {
		made = found[e.tab.next%len(found)]
		e.tab.next++
	}
	e.tab.made = made
	return made, len(made), true
}

// beginningWith gives the words that a line's end begins: the whole line, or what stands
// behind its last @, each as the whole line would be.
func beginningWith(words []string, line string) (out []string) {
	head, tail := "", line
	if i := strings.LastIndex(line, "@"); i >= 0 {
		head, tail = line[:i+1], line[i+1:]
	}
	for _, w := range words {
		if len(w) >= len(tail) && strings.EqualFold(w[:len(tail)], tail) {
			out = append(out, head+w)
		}
	}
	return out
}

func common(words []string) string {
	out := words[0]
	for _, w := range words[1:] {
		for !strings.HasPrefix(w, out) {
			out = out[:len(out)-1]
		}
	}
	return out
}

// pasted takes out of what is pasted what would steer the terminal. What is typed passes
// as it is: arrows are such sequences. (xterm's bracketed paste: ESC [ 2 0 0 ~ and 201.)
type pasted struct {
	from   io.Reader
	inside bool
	seen   []byte // of a beginning or an end that is not complete
}

func (p *pasted) Read(out []byte) (int, error) {
	part := make([]byte, max(1, len(out)-len("\x1b[201~")))
	for {
		n, err := p.from.Read(part)
		kept := out[:0]
		for _, b := range part[:n] {
			kept = p.take(kept, b)
		}
		if len(kept) > 0 || err != nil {
			return len(kept), err
		}
	}
}

func (p *pasted) take(kept []byte, b byte) []byte {
	const begin, end = "\x1b[200~", "\x1b[201~"
	mark := begin
	if p.inside {
		mark = end
	}
	switch {
	case b == mark[len(p.seen)]:
		if p.seen = append(p.seen, b); len(p.seen) < len(mark) {
			if p.inside {
				return kept
			}
			return append(kept, b)
		}
		if p.inside {
			kept = append(kept, end...)
		} else {
			kept = append(kept, b)
		}
		p.inside, p.seen = !p.inside, nil
		return kept
	case p.inside:
		for _, held := range p.seen {
			kept = harmless(kept, held)
		}
		p.seen = nil
		if b == mark[0] {
			p.seen = []byte{b}
			return kept
		}
		return harmless(kept, b)
	}
	p.seen = nil
	if b == mark[0] {
		p.seen = []byte{b}
	}
	return append(kept, b)
}

// harmless adds a byte of a paste, unless it is a control character other than a line's
// end; a tab becomes a space.
func harmless(kept []byte, b byte) []byte {
	switch {
	case b == '\t':
		return append(kept, ' ')
	case b < 32 && b != '\r' && b != '\n' || b == 0x7f:
		return kept
	}
	return append(kept, b)
}
