package wizard

import (
	"strconv"
	"strings"
)

// numbers are those of the form's lines, which do not move when a group unfolds: who read 7 can
// type 7. A line that comes later has the number of the line above it, or of the group that it
// was folded into, and a letter.
type numbers struct {
	of    map[string]string // by the line's id
	under map[string]int    // how many letters a number has given
}

// give gives each line its number.
func (n *numbers) give(lines []Line) {
	first := n.of == nil
	if first {
		n.of, n.under = map[string]string{}, map[string]int{}
	}
	above := ""
	for i := range lines {
		l := &lines[i]
		if n.of[l.ID] == "" && first {
			n.of[l.ID] = strconv.Itoa(i + 1)
		} else if n.of[l.ID] == "" {
			under := above
			if whole := n.of[l.Group]; whole != "" {
				under = whole
			}
			n.of[l.ID] = under + letter(n.under[under])
			n.under[under]++
		}
		l.Number = n.of[l.ID]
		above = strings.TrimRight(l.Number, letters)
	}
}

const letters = "abcdefghijklmnopqrstuvwxyz"

// letter is the nth one: a, b … z, za, zb …
func letter(n int) string {
	last := len(letters) - 1
	return strings.Repeat("z", n/last) + letters[n%last:n%last+1]
}

// numbered finds the line that a number means; last is the highest number that there is.
func (f Form) numbered(number string) (l Line, last int, found bool) {
	number = strings.ToLower(strings.TrimSpace(number))
	for _, x := range f.Lines {
		if x.Number == number {
			l, found = x, true
		}
		n, _ := strconv.Atoi(strings.TrimRight(x.Number, letters)) // what follows is a number
		last = max(last, n)
	}
	return l, last, found
}

// isNumber says whether a word is meant as the number of a line.
func isNumber(word string) bool {
	word = strings.ToLower(word)
	_, err := strconv.Atoi(strings.TrimRight(word, letters))
	return err == nil
}
