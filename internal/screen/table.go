package screen

import (
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
)

// Table writes rows below headings, columns as wide as they need. On a
// terminal the last column is cut at its edge.
func (s *Streams) Table(headings []string, rows [][]string) {
	widths := make([]int, len(headings))
	for _, row := range append([][]string{headings}, rows...) {
		for i, cell := range row {
			widths[i] = max(widths[i], lipgloss.Width(Clean(cell)))
		}
	}
	line := func(row []string) string {
		var out strings.Builder
		for i, cell := range row {
			cell = Clean(cell)
			out.WriteString(cell)
			if i < len(row)-1 {
				out.WriteString(strings.Repeat(" ", widths[i]-lipgloss.Width(cell)+2))
			}
		}
		text := strings.TrimRight(out.String(), " ")
		if s.OutTerminal && s.Width > 20 {
			text = ansi.Truncate(text, s.Width, "…")
		}
		return text
	}
	s.Print("%s", s.paint(strong, line(headings)))
	for _, row := range rows {
		s.Print("%s", line(row))
	}
}

// Pair is a name and what stands behind it.
type Pair struct{ Name, Text string }

// pairs lays out names and texts in two columns; further lines of a text stand
// below its first.
func (s *Streams) pairs(all []Pair) string {
	width := 0
	for _, p := range all {
		width = max(width, lipgloss.Width(p.Name))
	}
	var out strings.Builder
	for _, p := range all {
		for i, line := range strings.Split(Clean(p.Text), "\n") {
			name := ""
			if i == 0 {
				name = p.Name
			}
			out.WriteString("  " + s.paint(faint, name) + strings.Repeat(" ", width-lipgloss.Width(name)+3) + line + "\n")
		}
	}
	return out.String()
}

// Pairs prints names and texts.
func (s *Streams) Pairs(all []Pair) { s.Print("%s", strings.TrimRight(s.pairs(all), "\n")) }
