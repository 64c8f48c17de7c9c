package secret

import (
	"math"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Floor is the score below which a password is refused.
const Floor = 60

// Score says how hard a password is to guess.
type Score struct {
	Points  int      `json:"score"`   // 0 to 100
	Reasons []string `json:"reasons"` // what pulls it down, in the order of weight
}

// Rate scores a password from 0 to 100. Words are names that an attacker would
// try first: the admin's name, the domain, the title.
//
// The score is the estimated number of bits, one point a bit of up to 100: the
// bits of a random password of its length and classes, where repeated and
// neighbouring characters and known words count as one character each.
func Rate(password string, words ...string) Score {
	var s Score
	rest := strings.ToLower(password)
	for _, w := range append(usual, lowered(words)...) {
		if utf8.RuneCountInString(w) >= 3 && strings.Contains(unleet(rest), w) {
			s.Reasons = append(s.Reasons, "contains “"+w+"”")
			// A known word is worth little more than one character.
			plain := unleet(rest)
			at := strings.Index(plain, w)
			from, to := utf8.RuneCountInString(plain[:at]), utf8.RuneCountInString(plain[:at+len(w)])
			runes := []rune(rest)
			rest = string(runes[:from]) + "\x00" + string(runes[to:])
		}
	}
	effective, runs := fold(rest)
	if runs {
		s.Reasons = append(s.Reasons, "has characters repeated or in a row")
	}
	if utf8.RuneCountInString(password) < 12 {
		s.Reasons = append(s.Reasons, "is shorter than 12 characters")
	}
	bits := float64(effective) * math.Log2(float64(pool(password)))
	s.Points = min(100, int(bits))
	if s.Points >= Floor && utf8.RuneCountInString(password) < 10 {
		s.Points = Floor - 1
	}
	return s
}

// usual are the pieces that lists of leaked passwords are full of.
var usual = []string{
	"password", "passwort", "motdepasse", "contrasena", "letmein", "welcome", "qwerty", "azerty", "qwertz",
	"asdfgh", "zxcvbn", "iloveyou", "dragon", "monkey", "sunshine", "princess", "football", "baseball", "master",
	"shadow", "secret", "abc123", "123456", "111111", "000000", "admin", "root", "login", "hello", "summer",
	"winter", "spring", "autumn", "change", "default", "test", "guest", "user", "pass", "2024", "2025", "2026",
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
