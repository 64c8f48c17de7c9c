package screen

import (
	"io"
	"slices"
	"strings"
	"time"
)

// keyboard gives what comes from a terminal a line at a time, without what no line has: it ends
// sequences of keys that are none (ECMA-48, 5.4), so that Esc alone hangs nothing, knows each key by the
// one sequence that the editor knows, and takes out of what is pasted what would steer the terminal
// (xterm's bracketed paste: ESC [ 2 0 0 ~ and 201).
type keyboard struct {
	from io.Reader
	more func(within time.Duration) bool // whether something can be read

	in     []byte // read, and not given yet
	inside bool   // a paste
	ends   bool   // the paste has a line end
	paste  bool   // several lines are one answer
	lines  int    // given since the question
	over   bool   // no line came for a while
	many   bool   // the last answer was pasted, in several lines
}

const (
	pasteBegin = "\x1b[200~"
	pasteEnd   = "\x1b[201~"

	keyGap   = 50 * time.Millisecond  // between the bytes of one key, over a slow line too
	pasteGap = 250 * time.Millisecond // between the lines of a paste
)

// begin is told when a question begins.
func (k *keyboard) begin(paste bool) {
	k.paste, k.lines, k.over, k.many = paste, 0, false, false
}

// waits says whether more lines of a paste may come.
func (k *keyboard) waits() bool { return k.paste && !k.over }

// drop forgets what was typed or pasted and not asked for.
func (k *keyboard) drop() {
	k.in = nil
	for part := make([]byte, 4096); k.more(0); {
		if n, err := k.from.Read(part); err != nil || n == 0 {
			return
		}
	}
}

// Read gives at most what a line has left.
func (k *keyboard) Read(out []byte) (int, error) {
	for {
		if len(k.in) == 0 {
			if k.waits() && k.lines > 0 && !k.inside && !k.more(pasteGap) {
				k.over, k.many = true, k.lines > 1
				out[0] = '\r'
				return 1, nil
			}
			if err := k.fill(); err != nil {
				return 0, err
			}
		}
		n := 0
		for len(k.in) > 0 && n+len(pasteEnd) < len(out) {
			key, ended := k.key()
			n += copy(out[n:], key)
			if ended {
				k.lines++
				break
			}
		}
		if n > 0 {
			return n, nil
		}
	}
}

// fill reads what there is.
func (k *keyboard) fill() error {
	part := make([]byte, 4096)
	n, err := k.from.Read(part)
	k.in = append(k.in, part[:n]...)
	if n > 0 {
		return nil
	}
	return err
}

// complete waits for the rest of a key that has come in part; false where none comes.
func (k *keyboard) complete(done func() bool) bool {
	for !done() {
		if !k.more(keyGap) || k.fill() != nil {
			return false
		}
	}
	return true
}

// key takes the next key. Ended says that a line ends with it.
func (k *keyboard) key() (key []byte, ended bool) {
	b := k.in[0]
	switch {
	case k.inside:
		return k.inPaste()
	case b == 0x1b:
		return k.sequence(), false
	}
	k.in = k.in[1:]
	return []byte{b}, b == '\r' || b == '\n'
}

// inPaste takes a byte of a paste, or its end: a paste of several lines ends its last one itself.
func (k *keyboard) inPaste() (key []byte, ended bool) {
	b := k.in[0]
	if b == pasteEnd[0] && k.complete(func() bool {
		return len(k.in) >= len(pasteEnd) || !strings.HasPrefix(pasteEnd,
			string(k.in))
	}) && strings.HasPrefix(string(k.in), pasteEnd) {
		k.in, k.inside = k.in[len(pasteEnd):], false
		if k.ends {
			k.over, k.many = true, true
			if len(k.in) > 0 && k.in[0] == '\r' { // whoever pasted pressed Enter too
				k.in = k.in[1:]
			}
			return []byte(pasteEnd + "\r"), true
		}
		return []byte(pasteEnd), false
	}
	k.in = k.in[1:]
	switch {
	case b == '\t':
		return []byte{' '}, false
	case b == '\r' || b == '\n':
		k.ends = true
		return []byte{'\r'}, true
	case b < 0x20 || b == 0x7f: // what would steer the terminal
		return nil, false
	}
	return []byte{b}, false
}

// known are the keys that the editor knows, by what terminals send for them.
var known = map[string]string{"[A": "[A", "[B": "[B", "[C": "[C", "[D": "[D", "[H": "[H", "[F": "[F", "[3~": "[3~",
	"[1~": "[H", "[7~": "[H", "[4~": "[F", "[8~": "[F", "OA": "[A", "OB": "[B", "OC": "[C", "OD": "[D", "OH": "[H",
	"OF": "[F", "[1;3C": "[1;3C", "[1;3D": "[1;3D", "[1;5C": "[1;3C", "[1;5D": "[1;3D", "[200~": "[200~"}

// sequence takes a key that is written with Esc; nothing for Esc alone, and for keys that are none here.
func (k *keyboard) sequence() []byte {
	k.complete(func() bool { return len(k.in) > 1 })
	if len(k.in) == 1 || k.in[1] != '[' && k.in[1] != 'O' {
		k.in = k.in[1:]
		return nil
	}
	end := 0
	whole := k.complete(func() bool {
		end = slices.IndexFunc(k.in[2:], func(b byte) bool { return b >= 0x40 && b <= 0x7e || b < 0x20 })
		return end >= 0
	})
	if !whole {
		k.in = nil
		return nil
	}
	name := string(k.in[1 : end+3])
	if last := k.in[end+2]; last < 0x20 { // no sequence after all
		k.in = k.in[end+2:]
		return nil
	}
	k.in = k.in[end+3:]
	if "\x1b"+name == pasteBegin {
		k.inside, k.ends = true, false
	}
	if to := known[name]; to != "" {
		return []byte("\x1b" + to)
	}
	return nil
}
