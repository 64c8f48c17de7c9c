package secret

import (
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Century is for how long a password of an admin has to withstand a guesser.
const Century = 100 * 365.25 * 24 * time.Hour

// GuessesPerSecond is how fast the guesser is that is reckoned with: somebody who has got
// hold of the app's table of hashes, of a quick kind, and has a machine made for it.
const GuessesPerSecond = 1e8

// Strength says how long a password withstands a guesser.
type Strength struct {
	Seconds float64  `json:"seconds"` // on the average, at GuessesPerSecond
	Lasts   string   `json:"lasts"`   // the same in words, such as “about 4 hours”
	Enough  bool     `json:"enough"`  // it is a century, or more
	Reasons []string `json:"reasons"` // what pulls it down, in the order of weight
}

// Gauge estimates how long a password withstands a guesser. Words are names that they
// would try first: the admin's name, the domain, the title.
//
// Half of all random passwords of its length and classes have to be tried, where repeated
// and neighbouring characters, known words and dates count as one character each.
func Gauge(password string, words ...string) Strength {
	s := Strength{Reasons: []string{}}
	rest := strings.ToLower(password)
	for _, w := range append(usual, lowered(words)...) {
		if utf8.RuneCountInString(w) >= 3 && strings.Contains(unleet(rest), w) {
			s.Reasons = append(s.Reasons, "it contains “"+w+"”")
			// A known word is worth little more than one character.
			plain := unleet(rest)
			at := strings.Index(plain, w)
			from, to := utf8.RuneCountInString(plain[:at]), utf8.RuneCountInString(plain[:at+len(w)])
			runes := []rune(rest)
			rest = string(runes[:from]) + "\x00" + string(runes[to:])
		}
	}
	if date.MatchString(rest) {
		s.Reasons = append(s.Reasons, "it contains a date")
		rest = date.ReplaceAllString(rest, "\x00")
	}
	effective, runs := fold(rest)
	if runs {
		s.Reasons = append(s.Reasons, "it has characters repeated or in a row")
	}
	if utf8.RuneCountInString(password) < 12 {
		s.Reasons = append(s.Reasons, "it is shorter than 12 characters")
	}
	s.Seconds = math.Pow(float64(pool(password)), float64(effective)) / 2 / GuessesPerSecond
	s.Seconds = min(s.Seconds, math.MaxFloat64) // JSON knows no infinity
	s.Enough = s.Seconds >= Century.Seconds()
	if s.Lasts = lasts(s.Seconds); s.Enough {
		s.Reasons = []string{} // what is good enough is not reproached
	}
	return s
}

// date is a day or a year of people's lives.
var date = regexp.MustCompile(`(19|20)\d\d([-./]?[01]?\d[-./]?[0-3]?\d)?|[0-3]?\d[-./][01]?\d[-./](\d\d)?\d\d`)

// lasts words a time as people speak of it.
func lasts(seconds float64) string {
	if seconds < 1 {
		return "less than a second"
	}
	units := []struct {
		name string
		in   float64 // seconds
	}{{"century", Century.Seconds()}, {"year", 365.25 * 86400}, {"month", 30 * 86400}, {"day", 86400}, {"hour", 3600},
		{"minute", 60}, {"second", 1}}
	if seconds >= 1e6*Century.Seconds() {
		return "more than a million centuries"
	}
	for _, u := range units {
		if n := seconds / u.in; n >= 1 {
			return "about " + count(n, u.name)
		}
	}
	return ""
}

func count(n float64, what string) string {
	whole := int64(n + 0.5)
	if what == "century" && whole > 1 {
		what = "centurie"
	}
	if whole == 1 {
		article := "a "
		if what == "hour" {
			article = "an "
		}
		return article + what
	}
	if whole >= 1000 {
		return strconv.FormatInt(whole/1000, 10) + ",000 " + what + "s"
	}
	return strconv.FormatInt(whole, 10) + " " + what + "s"
}

// usual are the pieces that lists of leaked passwords are full of.
var usual = []string{
	"password", "passwort", "motdepasse", "contrasena", "letmein", "welcome", "qwerty", "azerty", "qwertz",
	"asdfgh", "zxcvbn", "iloveyou", "dragon", "monkey", "sunshine", "princess", "football", "baseball", "master",
	"shadow", "secret", "abc123", "123456", "111111", "000000", "admin", "root", "login", "hello", "summer",
	"winter", "spring", "autumn", "change", "default", "test", "guest", "user", "pass",
}

func lowered(words []string) []string {
	out := make([]string, 0, len(words))
	for _, w := range words {
		out = append(out, strings.ToLower(strings.TrimSpace(w)))
	}
	return out
}

// unleet reads digits and symbols that stand for letters as those letters.
func unleet(s string) string {
	if strings.IndexFunc(s, unicode.IsLetter) < 0 {
		return s // digits alone are digits
	}
	return strings.NewReplacer("@", "a", "4", "a", "3", "e", "1", "l", "0", "o", "$", "s", "5", "s").Replace(s)
}

// fold counts characters, those that repeat or continue the one before not.
func fold(s string) (count int, runs bool) {
	var last rune = -1
	folded := 0
	for _, r := range s {
		if last >= 0 && (r == last || r == last+1 || r == last-1) {
			folded++
		} else {
			count++
		}
		last = r
	}
	return count, folded > 1
}

// pool is how many characters a guesser has to try for each place.
func pool(s string) int {
	var lower, upper, digit, other bool
	for _, r := range s {
		switch {
		case unicode.IsLower(r):
			lower = true
		case unicode.IsUpper(r):
			upper = true
		case unicode.IsDigit(r):
			digit = true
		default:
			other = true
		}
	}
	size := 1
	for _, c := range []struct {
		in bool
		n  int
	}{{lower, 26}, {upper, 26}, {digit, 10}, {other, 20}} {
		if c.in {
			size += c.n
		}
	}
	return size
}
