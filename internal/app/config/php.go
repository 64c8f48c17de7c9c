package config

import (
	"strings"
)

// php writes PHP string literals.
//
// Single quotes are used because only the quote itself and the backslash mean
// anything inside them (PHP manual, "Strings: Single quoted"); line breaks and
// the closing tag may stand in them as they are.
type php struct{}

func (php) Quote(v string) (string, error) {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(v) + "'", nil
}

func (php) Bare(v string) string { return v }

// Open follows the template through PHP's lexical states.
func (php) Open(template string, places []Span) map[int]string {
	closed := map[int]string{}
	s := phpScan{text: template}
	for _, p := range places {
		s.to(p.From)
		switch s.in {
		case "code":
		case "page":
			closed[p.From] = "a value outside <?php … ?> would be sent to visitors; put it inside"
		case "comment":
			closed[p.From] = "a value inside a comment is not safe there; take it out"
		default:
			closed[p.From] = "a value inside quotes of the template would be quoted twice; take the quotes away"
		}
		s.at = p.To
	}
	return closed
}

// phpScan knows at each offset what PHP is in the middle of: "page", "code",
// "comment", or the closing delimiter of a string.
type phpScan struct {
	text string
	at   int
	in   string
	end  string // what ends the comment or string
}

func (s *phpScan) to(offset int) {
	for s.at < offset {
		s.step(s.text[s.at:offset])
	}
	if s.in == "" {
		s.in = "page"
	}
}

// step goes on by as little as can be told apart.
func (s *phpScan) step(rest string) {
	switch s.in {
	case "", "page":
		s.in = "page"
		if i := strings.Index(rest, "<?"); i >= 0 {
			s.at, s.in = s.at+i+2, "code"
		} else {
			s.at += len(rest)
		}
	case "code":
		s.code(rest)
	default:
		s.inside(rest)
	}
}

// code takes one step through program text.
func (s *phpScan) code(rest string) {
	enter := func(in, end string, skip int) { s.in, s.end, s.at = in, end, s.at+skip }
	switch {
	case strings.HasPrefix(rest, "?>"):
		enter("page", "", 2)
	case strings.HasPrefix(rest, "/*"):
		enter("comment", "*/", 2)
	case strings.HasPrefix(rest, "//"), rest[0] == '#' && !strings.HasPrefix(rest, "#["):
		enter("comment", "\n", 1)
	case strings.HasPrefix(rest, "<<<"):
		label := strings.TrimLeft(rest[3:], " \t")
		label, _, _ = strings.Cut(label, "\n")
		enter("string", "\n"+strings.Trim(label, "'\" \t\r"), 3)
	case rest[0] == '\'' || rest[0] == '"' || rest[0] == '`':
		enter("string", rest[:1], 1)
	default:
		s.at++
	}
}

// inside takes one step through a comment or a string.
func (s *phpScan) inside(rest string) {
	switch {
	case s.in == "string" && len(s.end) == 1 && rest[0] == '\\':
		s.at += min(2, len(rest))
	case s.in == "comment" && s.end == "\n" && strings.HasPrefix(rest, "?>"):
		s.in, s.at = "page", s.at+2
	case strings.HasPrefix(rest, s.end):
		s.in, s.at = "code", s.at+len(s.end)
	case len(s.end) > 1 && s.end[0] == '\n' && rest[0] == '\n' && strings.HasPrefix(strings.TrimLeft(rest[1:], " \t"),
		s.end[1:]):
		s.in, s.at = "code", s.at+1 // an indented heredoc's end
	default:
		s.at++
	}
}
