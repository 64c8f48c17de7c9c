package pages

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/config"
	"tivset/internal/app/fill"
)

// What package config writes, the stand-in's readers give back.
func TestReadersOfEachFormat(t *testing.T) {
	awkward := "p'a\"s $x ${y} %; #é–`?:<&> name"
	values := fill.Values{"a": awkward, "b": "two\nlines", "n": "12", "f": "yes"}
	for ending, c := range map[string]struct{ format, template, a, b string }{
		".json": {"json", `{"x": {"a": {a}, "n": {n | number}, "f": {f | flag}}, "b": {b}}`, "x.a", "b"},
		".yaml": {"yaml", "x:\n  a: {a}\n  n: {n | number}\n  f: {f | flag}\nb: {b}\n", "x.a", "b"},
		".toml": {"toml", "b = {b}\n[x]\na = {a}\nn = {n | number}\nf = {f | flag}\n", "x.a", "b"},
		".env":  {"dotenv", "A={a}\nB={b}\nN={n | number}\nF={f | flag}\n", "A", "B"},
		".xml":  {"xml", "<c><x><a>{a}</a><n>{n}</n></x><b>{b}</b><f>{f}</f></c>", "x.a", "b"},
	} {
		f, err := config.For(c.format)
		require.NoError(t, err)
		text, err := config.Render(f, c.template, values)
		require.NoError(t, err)
		got, err := readers[ending](string(text))
		require.NoError(t, err, ending)
		assert.Equal(t, awkward, got[c.a], ending)
		assert.Equal(t, "two\nlines", got[c.b], ending)
	}
	for ending, text := range map[string]string{".json": `{"a": [1]}`, ".yaml": "a: [1]", ".toml": "a = [1]",
		".xml": `<a b="c"/>`} {
		_, err := readers[ending](text)
		assert.ErrorContains(t, err, "does not read", ending)
	}
	for ending, text := range map[string]string{".json": `{`, ".yaml": "a: [", ".toml": "a =", ".xml": `<a>`} {
		_, err := readers[ending](text)
		assert.Error(t, err, ending)
	}
}
