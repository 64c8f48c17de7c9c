package screen

import (
	"regexp"
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// inColumns is a line of a list whose descriptions are in a column of their own.
var inColumns = regexp.MustCompile(`^( +\S.*?  +)\S`)

// Folded breaks the lines of a text that are wider than the terminal. Lines of a paragraph flow; descriptions in a
// column of their own go on below themselves; commands to type, which are indented, stay whole.
func (s *Streams) Folded(text string) string {
	if !s.ErrTerminal && !s.OutTerminal {
		return text
	}
	s.Measure()
	var out, paragraph []string
	flush := func() {
		if len(paragraph) > 0 {
			out = append(out, s.flowing(paragraph)...)
			paragraph = nil
		}
	}
	for _, line := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		column := inColumns.FindStringSubmatch(line)
		switch {
		case line != "" && line[0] != ' ' && !strings.HasSuffix(line, ":"):
			paragraph = append(paragraph, line)
			continue
		case column != nil && ansi.StringWidth(line) > s.Width && len(column[1]) < s.Width*2/3:
			flush()
			rest := wrap(line[len(column[1]):], s.Width-len(column[1]))
			line = column[1] + strings.ReplaceAll(rest, "\n", "\n"+strings.Repeat(" ", len(column[1])))
		case column != nil && ansi.StringWidth(line) > s.Width: // beside which no room is
			flush()
			rest := wrap(line[len(column[1]):], s.Width-8)
			line = strings.TrimRight(column[1], " ") + "\n        " + strings.ReplaceAll(rest, "\n", "\n        ")
		default:
			flush()
		}
		out = append(out, line)
	}
	flush()
	return strings.Join(out, "\n") + "\n"
}

// flowing are the lines of a paragraph, as they are where they fit.
func (s *Streams) flowing(lines []string) []string {
	for _, line := range lines {
		if ansi.StringWidth(line) > s.Width {
			return strings.Split(wrap(strings.Join(lines, " "), s.Width), "\n")
		}
	}
	return lines
}
