// Package secret makes, scores and hashes passwords, and keeps secrets from
// being printed by accident.
package secret

import "fmt"

const hidden = "(secret)"

// Text is a secret string. Whatever formats it, in whatever way, gets a
// placeholder; only Reveal gives the secret itself.
type Text struct{ value string }

// Of wraps a secret.
func Of(value string) Text { return Text{value} }

// Reveal gives the secret. Its callers are the places to look at when asking
// where secrets go.
func (t Text) Reveal() string { return t.value }

// Empty says whether there is no secret at all.
func (t Text) Empty() bool { return t.value == "" }

// Format hides the secret from every verb of fmt.
func (t Text) Format(s fmt.State, _ rune) { _, _ = fmt.Fprint(s, hidden) }

// String hides the secret.
func (t Text) String() string { return hidden }

// MarshalText hides the secret from JSON, YAML and XML.
func (t Text) MarshalText() ([]byte, error) { return []byte(hidden), nil }

var (
	_ fmt.Formatter = Text{}
	_ fmt.Stringer  = Text{}
)
