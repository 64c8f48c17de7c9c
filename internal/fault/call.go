package fault

import "strings"

// A text for people may hold calls of the program. The core does not spell them:
// it says which command with which words, between marks, and the command line
// words them. So a test can carry each of them out.
//
// The marks are noncharacters (Unicode 16.0, 23.7), which no text of anybody's
// has a use for; in words of a call they are left out.
const (
	callBegins = "\uFDD0"
	callApart  = "\uFDD1"
	callEnds   = "\uFDD2"
)

var noMarks = strings.NewReplacer(callBegins, "", callApart, "", callEnds, "")

// Call writes a call of the program into a text: the command's name and its
// words, each as the program is to get it.
func Call(words ...string) string {
	clean := make([]string, len(words))
	for i, w := range words {
		clean[i] = noMarks.Replace(w)
	}
	return callBegins + strings.Join(clean, callApart) + callEnds
}

// Worded gives a text with its calls as somebody would type them: each is given
// to spell, whose answer takes its place.
func Worded(text string, spell func(words []string) string) string {
	if !strings.Contains(text, callBegins) {
		return text
	}
	var out strings.Builder
	for {
		before, rest, found := strings.Cut(text, callBegins)
		out.WriteString(before)
		if !found {
			return out.String()
		}
		call, after, ended := strings.Cut(rest, callEnds)
		if !ended {
			out.WriteString(noMarks.Replace(rest))
			return out.String()
		}
		out.WriteString(spell(strings.Split(call, callApart)))
		text = after
	}
}

// Calls lists the calls in a text.
func Calls(text string) [][]string {
	var out [][]string
	Worded(text, func(words []string) string {
		out = append(out, words)
		return ""
	})
	return out
}
