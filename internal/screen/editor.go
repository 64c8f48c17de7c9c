package screen

import (
	"errors"
	"io"
	"os"
	"strings"
	"time"

	"golang.org/x/term"
)

// editor reads lines that can be edited while they are typed: arrows, what was typed
// before, Tab. It needs a terminal that can move its cursor.
type editor struct {
	in, out *os.File
	line    *term.Terminal
	keys    *keyboard
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
	e := &editor{in: in, out: s.Terminal}
	e.keys = &keyboard{from: in, more: func(d time.Duration) bool { return typedAhead(int(in.Fd()), d) }}
	e.line = term.NewTerminal(both{e.keys, e.out}, "")
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

// read gives a line, or several that were pasted at once, joined by line ends. With paste it waits a
// moment for more lines, as not every terminal says what is pasted; what is not seen is never what was
// typed or pasted before the question stood there. The error is io.EOF for Ctrl-C, Ctrl-D and the end
// of the input.
func (e *editor) read(prompt string, words []string, hide, paste bool) (string, error) {
	if hide || e.keys.many {
		e.keys.drop()
	}
	e.keys.begin(paste)
	e.fits()
	defer resized(e.fits)()
	e.words, e.tab = words, tabbed{}
	e.line.SetPrompt(prompt)
	var lines []string
	for {
		line, err := e.one(prompt, hide)
		lines = append(lines, line)
		pasted := errors.Is(err, term.ErrPasteIndicator)
		if pasted {
			err = nil
		}
		if err != nil || !pasted && !e.keys.waits() {
			return strings.TrimRight(strings.Join(lines, "\n"), "\n"), err
		}
		prompt = ""
		e.line.SetPrompt("")
	}
}

// fits has the line fit the terminal as it is now.
func (e *editor) fits() {
	if width, height, err := term.GetSize(int(e.out.Fd())); err == nil && width > 0 {
		_ = e.line.SetSize(width, height)
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
