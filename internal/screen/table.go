package screen

import (
	"io"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
)

// Table writes rows below headings, columns as wide as they need. On a terminal that is too
// narrow cells go on below themselves, all but the first, by which a row is called; and where
// even that does not do, each row is written as pairs. Nothing is cut.
func (s *Streams) Table(headings []string, rows [][]string) { s.table(headings, rows, nil) }

// table writes a table, and below each row what is to stand there, nil for nothing.
func (s *Streams) table(headings []string, rows [][]string, below func(row int) string) {
	all := append([][]string{headings}, rows...)
	widths := make([]int, len(headings))
	for _, row := range all {
		for i := range row {
			row[i] = CleanName(row[i])
			widths[i] = max(widths[i], width(row[i]))
		}
	}
	if s.OutTerminal && s.Width > 20 && !fit(widths, s.Width) {
		s.listed(headings, rows, below)
		return
	}
	var out strings.Builder
	out.Grow(len(all) * (across(widths) + 1))
	for n, row := range all {
		for _, text := range lines(row, widths) {
			if n == 0 {
				text = s.paint(strong, text)
			}
			out.WriteString(text + "\n")
		}
		if n > 0 && below != nil {
			out.WriteString(below(n - 1))
		}
	}
	_, _ = io.WriteString(s.Out, out.String())
}

// narrowest is what a column is left at least: a word or two.
const narrowest = 12

// fit takes from the widest columns but the first until a row is no longer than a line; false
// where that would leave too little.
func fit(widths []int, most int) bool {
	for across(widths)-2 > most {
		widest := 0
		for i := 1; i < len(widths); i++ {
			if widest == 0 || widths[i] > widths[widest] {
				widest = i
			}
		}
		if widest == 0 || widths[widest] <= narrowest {
			return false
		}
		widths[widest]--
	}
	return true
}

// listed writes each row as pairs, with an empty line between two.
func (s *Streams) listed(headings []string, rows [][]string, below func(row int) string) {
	for n, row := range rows {
		var all []Pair
		for i, cell := range row {
			if cell != "" && cell != "-" {
				all = append(all, Pair{headings[i], cell})
			}
		}
		text := s.pairs(all)
		if below != nil {
			text += below(n)
		}
		if n > 0 {
			text = "\n" + text
		}
		_, _ = io.WriteString(s.Out, text)
	}
}

// across is how many columns a row takes, with the gaps behind its cells.
func across(widths []int) (n int) {
	for _, w := range widths {
		n += w + 2
	}
	return n
}

// lines writes a row: mostly one line, and as many as its highest cell has.
func lines(row []string, widths []int) (out []string) {
	cells, high := make([][]string, len(row)), 1
	for i, cell := range row {
		cells[i] = []string{cell}
		if width(cell) > widths[i] {
			cells[i] = strings.Split(ansi.Wrap(cell, widths[i], ""), "\n")
			high = max(high, len(cells[i]))
		}
	}
	for n := range high {
		var line strings.Builder
		line.Grow(across(widths))
		for i := range row {
			cell := ""
			if n < len(cells[i]) {
				cell = cells[i][n]
			}
			line.WriteString(cell)
			line.WriteString(strings.Repeat(" ", max(0, widths[i]-width(cell))+2))
		}
		out = append(out, strings.TrimRight(line.String(), " "))
	}
	return out
}

// width is how many columns a text takes. Most are plain, and counted fast.
func width(text string) int {
	for i := range len(text) {
		if text[i] >= 0x7f || text[i] < 0x20 {
			return lipgloss.Width(text)
		}
	}
	return len(text)
}

// Pair is a name and what stands behind it.
type Pair struct{ Name, Text string }

// pairs lays out names and texts in two columns; further lines of a text stand
// below its first.
func (s *Streams) pairs(all []Pair) string {
	widest := 0
	for _, p := range all {
		widest = max(widest, width(p.Name))
	}
	var out strings.Builder
	for _, p := range all {
		for i, line := range strings.Split(s.fold(Clean(Spelled(p.Text)), widest+5), "\n") {
			name := ""
			if i == 0 {
				name = p.Name
			}
			out.WriteString("  " + s.paint(faint, name) + strings.Repeat(" ", widest-width(name)+3) + line + "\n")
		}
	}
	return out.String()
}

// fold breaks each line of a text between words, where a terminal would break it
// anywhere; indent is how far to the right the text stands.
func (s *Streams) fold(text string, indent int) string {
	if !s.ErrTerminal || s.Width <= indent+20 {
		return text
	}
	return wrap(text, s.Width-indent)
}

// wrap breaks lines at spaces only: names and addresses with hyphens stay
// whole. What is longer than a line stays so.
func wrap(text string, columns int) string {
	var out strings.Builder
	for n, line := range strings.Split(text, "\n") {
		if n > 0 {
			out.WriteByte('\n')
		}
		used := 0
		for i, word := range strings.Split(line, " ") {
			w := width(word)
			switch {
			case i == 0:
			case used+1+w > columns:
				out.WriteByte('\n')
				used = 0
			default:
				out.WriteByte(' ')
				used++
			}
			out.WriteString(word)
			used += w
		}
	}
	return out.String()
}

// Pairs prints names and texts.
func (s *Streams) Pairs(all []Pair) { s.Print("%s", strings.TrimRight(s.pairs(all), "\n")) }
