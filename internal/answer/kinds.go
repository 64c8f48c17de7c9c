package answer

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"tivset/internal/suggest"
)

// Kinds are the kinds of questions.
var Kinds = []string{"text", "long-text", "number", "yes-no", "one-of", "several-of", "email", "web-address",
	"folder-name"}

// The most characters that an answer may have.
const (
	longest     = 200
	longestText = 4000 // of a long text
)

var (
	digitsOnly = regexp.MustCompile(`^-?[0-9]{1,18}$`)
	folderName = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]*$`)
)

// Wrong says what is wrong with an answer and what to do; "" when it is fine.
func (q *Question) Wrong(value string) (what, remedy string) {
	for _, look := range []func(string) (string, string){q.wrongText, q.wrongSpaces, q.wrongKind, q.wrongForm} {
		if what, remedy := look(value); what != "" {
			return what, remedy
		}
	}
	if q.Check != nil {
		return q.Check(value)
	}
	return "", ""
}

// wrongText looks at the characters.
func (q *Question) wrongText(value string) (what, remedy string) {
	most := longest
	if q.Kind == "long-text" {
		most = longestText
	}
	switch {
	case !utf8.ValidString(value):
		return "it is not text in UTF-8", "Save the file as UTF-8."
	case q.Secret && strings.ContainsAny(value, "\r\n"):
		return "it has a line end in it, or at its end", "Paste it without the line end."
	case strings.ContainsFunc(value, func(r rune) bool {
		return unicode.IsControl(r) && (q.Kind != "long-text" || r != '\n' && r != '\t')
	}):
		return "it has control characters or line breaks", "Take them out."
	case strings.ContainsFunc(value, invisible):
		return "it has invisible characters, such as those that turn the direction of text",
			"Type it anew, rather than paste it."
	case utf8.RuneCountInString(value) > most:
		return fmt.Sprintf("it has %d characters", utf8.RuneCountInString(value)), fmt.Sprintf("Use at most %d.", most)
	}
	return "", ""
}

// invisible says whether a character shows nothing and changes how others are
// read. Those that join letters or emoji are part of how languages are written.
func invisible(r rune) bool {
	return unicode.Is(unicode.Cf, r) && r != '\u200c' && r != '\u200d' && (r < 0xe0020 || r > 0xe007f)
}

// wrongSpaces looks at what a paste brings with it.
func (q *Question) wrongSpaces(value string) (what, remedy string) {
	if strings.TrimSpace(value) != value {
		return "it begins or ends with a space", "Take the space away."
	}
	if q.Secret && len(value) > 1 {
		first, _ := utf8.DecodeRuneInString(value)
		last, _ := utf8.DecodeLastRuneInString(value)
		if quotes, ok := quoted[first]; ok && quotes == last {
			return "it has quotation marks around it, which would be part of it", "Give it without the marks."
		}
	}
	return "", ""
}

// quoted are quotation marks, the opening with the closing.
var quoted = map[rune]rune{'"': '"', '\'': '\'', '`': '`', '“': '”', '‘': '’', '«': '»', '„': '“'}

func (q *Question) wrongKind(value string) (what, remedy string) {
	switch q.Kind {
	case "number":
		if !digitsOnly.MatchString(value) {
			return fmt.Sprintf("%q is not a whole number", value), "Use digits only."
		}
	case "yes-no":
		if value != "yes" && value != "no" {
			return fmt.Sprintf("%q is neither yes nor no", value), "Write yes or no."
		}
	case "one-of":
		return q.notAnOption(value)
	case "several-of":
		return q.notOptions(value)
	case "email":
		return Email(value)
	case "web-address":
		return webAddress(value)
	case "folder-name":
		if !folderName.MatchString(value) || len(value) > 63 {
			return fmt.Sprintf("%q is not a name for a folder", value),
				"Use lower case letters, digits, - and _, without slashes."
		}
	}
	return "", ""
}

func (q *Question) notAnOption(value string) (what, remedy string) {
	if slices.Contains(q.Options, value) {
		return "", ""
	}
	return fmt.Sprintf("%q cannot be chosen", value), strings.TrimSpace(suggest.Hint(value, q.Options) +
		" Choose one of: " +
		strings.Join(q.Options, ", ") + ".")
}

func (q *Question) notOptions(value string) (what, remedy string) {
	var seen []string
	for _, v := range Chosen(value) {
		if !slices.Contains(q.Options, v) {
			return fmt.Sprintf("%q cannot be chosen", v), strings.TrimSpace(suggest.Hint(v, q.Options) + " Choose some of: " +
				strings.Join(q.Options, ", ") + "; with commas between them; or none.")
		}
		if slices.Contains(seen, v) {
			return fmt.Sprintf("%q is chosen twice", v), "Write it once."
		}
		seen = append(seen, v)
	}
	if len(seen) == 0 && q.Needed {
		return "at least one must be chosen", "Choose some of: " + strings.Join(q.Options, ", ") + "."
	}
	return "", ""
}

func webAddress(value string) (what, remedy string) {
	u, err := url.Parse(value)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil ||
		strings.Contains(value, " ") {
		return fmt.Sprintf("%q is not a web address", value), "Write it as https://example.org/page."
	}
	return "", ""
}

func (q *Question) wrongForm(value string) (what, remedy string) {
	if q.Pattern == "" {
		return "", ""
	}
	if whole, err := regexp.Compile("^(?:" + q.Pattern + ")$"); err == nil && whole.MatchString(value) {
		return "", ""
	}
	if q.Form != "" {
		return "it does not have the right form", "Use: " + q.Form + "."
	}
	return "it does not have the right form", "It has to match " + q.Pattern + "."
}
