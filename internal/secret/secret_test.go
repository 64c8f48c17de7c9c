package secret_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/secret"
)

func TestTextHidesItself(t *testing.T) {
	s := secret.Of("geheim")
	wrapped := struct {
		S secret.Text `json:"s"`
		P *secret.Text
	}{s, &s}
	text, err := json.Marshal(wrapped)
	require.NoError(t, err)
	all := string(text) + fmt.Sprintf("%v %+v %#v %s %q %x %d", wrapped, wrapped, wrapped, s, s, s, s) + fmt.Sprint(s, &s)
	assert.NotContains(t, all, "geheim")
	assert.NotContains(t, all, fmt.Sprintf("%x", "geheim"))
	assert.Equal(t, "geheim", s.Reveal())
}

func TestPasswords(t *testing.T) {
	seen := map[string]bool{}
	for _, of := range secret.Alphabets() {
		for range 200 {
			p, err := secret.Maker{}.Password(12, secret.Alphabet(of))
			require.NoError(t, err)
			word := p.Reveal()
			assert.Len(t, word, 12)
			assert.False(t, seen[word])
			seen[word] = true
			assert.True(t, strings.ContainsAny(word, "abcdefghijkmnpqrstuvwxyz") &&
				strings.ContainsAny(word, "ABCDEFGHJKLMNPQRSTUVWXYZ"), word)
			assert.Equal(t, of != "letters", strings.ContainsAny(word, "23456789"), word)
			assert.Equal(t, of == "all", strings.ContainsAny(word, "!#%*+-.:=?@_~"), word)
			assert.False(t, strings.ContainsAny(word, "lO01I"), "look-alikes: %s", word)
		}
	}
	for _, n := range []int{0, 7, 73} {
		_, err := secret.Maker{}.Password(n, secret.All)
		assert.Error(t, err)
	}
	_, err := secret.Maker{}.Password(12, "nonesuch")
	assert.ErrorContains(t, err, "letters, alnum, all")
	_, err = secret.Maker{Random: strings.NewReader("")}.Password(12, secret.All)
	assert.ErrorContains(t, err, "randomness")
}

func TestGauge(t *testing.T) {
	for password, fine := range map[string]bool{
		"":                          false,
		"secret12":                  false,
		"password":                  false,
		"P@ssw0rd123!":              false,
		"Summer2026!":               false,
		"aaaaaaaaaaaaaaaaaaaa":      false,
		"abcdefghijklmnop":          false,
		"12345678901234567890":      false,
		"lockside-talk":             false, // the title
		"Wharfinger1!":              false, // the name
		"xK9#mP2q":                  false, // short
		"Kranich-Teekanne-74-Ufer":  true,
		"correct horse boat staple": true,
		"Ky9Tyqtuae7HSP6z":          true,
	} {
		s := secret.Gauge(password, "Lockside Talk", "lockside", "wharfinger")
		assert.Equal(t, fine, s.Enough, "%q: %s, %v", password, s.Lasts, s.Reasons)
	}
	assert.Contains(t, secret.Gauge("Wharfinger1!", "wharfinger").Reasons, "it contains “wharfinger”")
	for _, dated := range []string{"kranich-17.05.1984", "kranich19840517", "kranich1984", "17/5/84-kranich"} {
		assert.Contains(t, secret.Gauge(dated).Reasons, "it contains a date", dated)
	}
	assert.NotContains(t, secret.Gauge("Kranich-7452-Teekanne").Reasons, "it contains a date")
	for range 50 {
		p, err := secret.Maker{}.Password(20, secret.All)
		require.NoError(t, err)
		assert.True(t, secret.Gauge(p.Reveal()).Enough, p.Reveal())
	}
}

// Times are told as people speak of them.
func TestLasts(t *testing.T) {
	for password, lasts := range map[string]string{
		"":                               "less than a second",
		"hkm":                            "less than a second",
		"hkmwqtz":                        "about 52 seconds",
		"hkmwqtzx":                       "about 24 minutes",
		"hkmwqtzxr":                      "about 11 hours",
		"hkmwqtzxrv":                     "about 12 days",
		"hkmwqtzxrvd":                    "about 11 months",
		"hkmwqtzxrvdk":                   "about 24 years",
		"hkmwqtzxrvdkp":                  "about 6 centuries",
		"hkmwqtzxrvdkpgz":                "about 4,000 centuries",
		"Kranich-Teekanne-74-Ufer-Lampe": "more than a million centuries",
	} {
		assert.Equal(t, lasts, secret.Gauge(password).Lasts, password)
	}
	_, err := json.Marshal(secret.Gauge(strings.Repeat("Kr9%", 1000)))
	assert.NoError(t, err)
}

func TestGuessable(t *testing.T) {
	for _, name := range []string{"admin", "Admin", "ADMINISTRATOR", "root", "admin1", "web-master", "lockside",
		"Lockside-Talk", "willowbench"} {
		assert.NotEmpty(t, secret.Guessable(name, "Lockside Talk", "willowbench", "lockside"), name)
	}
	for _, name := range []string{"wharfinger", "gotofu56", "k.reed"} {
		assert.Empty(t, secret.Guessable(name, "Lockside Talk", "willowbench", "lockside.localhost"), name)
	}
	name, err := secret.Maker{}.AdminName()
	require.NoError(t, err)
	assert.Regexp(t, `^([a-z][aeiou]){3}[2-9]{2}$`, name)
}

func FuzzGauge(f *testing.F) {
	f.Add("päss\x00wörd", "p")
	f.Fuzz(func(t *testing.T, password, word string) {
		s := secret.Gauge(password, word)
		if _, err := json.Marshal(s); err != nil || s.Lasts == "" {
			t.Fatal(s, err)
		}
	})
}
