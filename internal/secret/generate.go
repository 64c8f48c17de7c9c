package secret

import (
	"crypto/rand"
	"fmt"
	"io"
	"math/big"
	"strings"
)

// The characters that passwords are made of. Those that look alike in many
// typefaces (l and 1, O and 0 …) are left out, and of the symbols those that
// survive being typed, pasted and stored nearly everywhere are kept.
const (
	lowers  = "abcdefghijkmnpqrstuvwxyz"
	uppers  = "ABCDEFGHJKLMNPQRSTUVWXYZ"
	digits  = "23456789"
	symbols = "!#%*+-.:=?@_~"
)

// Alphabet names the characters of a password.
type Alphabet string

// The alphabets, by the words of `--of`.
const (
	Letters Alphabet = "letters"
	Alnum   Alphabet = "alnum"
	All     Alphabet = "all"
)

// Alphabets lists all of them.
func Alphabets() []string { return []string{string(Letters), string(Alnum), string(All)} }

func (a Alphabet) classes() ([]string, error) {
	switch a {
	case Letters:
		return []string{lowers, uppers}, nil
	case Alnum:
		return []string{lowers, uppers, digits}, nil
	case All:
		return []string{lowers, uppers, digits, symbols}, nil
	}
	return nil, fmt.Errorf("no such alphabet: %s (there are %s)", a, strings.Join(Alphabets(), ", "))
}

// Shortest and Longest bound the length of a generated password, in
// characters. bcrypt, which many apps use, reads no more than 72 bytes.
const (
	Shortest = 8
	Longest  = 72
)

// Maker makes secrets from a source of randomness. The zero value uses the
// system's.
type Maker struct{ Random io.Reader }

// Password makes a password of length characters with at least one of each
// class of the alphabet. It errs for a length outside Shortest..Longest.
func (m Maker) Password(length int, of Alphabet) (Text, error) {
	if length < Shortest || length > Longest {
		return Text{}, fmt.Errorf("a length of %d is not between %d and %d", length, Shortest, Longest)
	}
	classes, err := of.classes()
	if err != nil {
		return Text{}, err
	}
	all := strings.Join(classes, "")
	// Drawing until every class is in keeps each password equally likely.
	for {
		word, err := m.draw(all, length)
		if err != nil {
			return Text{}, err
		}
		if hasEach(word, classes) {
			return Of(word), nil
		}
	}
}

// Token makes a name of lower case letters and digits that cannot be guessed
// when it is long (5 bits a character) and that every server takes.
func (m Maker) Token(length int) (string, error) {
	return m.draw("abcdefghijkmnpqrstuvwxyz23456789", length)
}

// AdminName proposes a sign-in name that nobody would try: speakable syllables
// and two digits.
func (m Maker) AdminName() (string, error) {
	var name strings.Builder
	for range 3 {
		a, err := m.draw("bdfgklmnprstvz", 1)
		if err != nil {
			return "", err
		}
		b, err := m.draw("aeiou", 1)
		if err != nil {
			return "", err
		}
		name.WriteString(a + b)
	}
	for {
		end, err := m.draw(digits, 2)
		if err != nil || !meant[end] {
			return name.String() + end, err
		}
	}
}

// meant are numbers that say something to some people.
var meant = map[string]bool{"69": true, "88": true, "28": true, "74": true, "42": true, "99": true}

func (m Maker) draw(from string, n int) (string, error) {
	source := m.Random
	if source == nil {
		source = rand.Reader
	}
	size := big.NewInt(int64(len(from)))
	out := make([]byte, n)
	for i := range out {
		k, err := rand.Int(source, size)
		if err != nil {
			return "", fmt.Errorf("read randomness: %w", err)
		}
		out[i] = from[k.Int64()]
	}
	return string(out), nil
}

func hasEach(word string, classes []string) bool {
	for _, c := range classes {
		if !strings.ContainsAny(word, c) {
			return false
		}
	}
	return true
}
