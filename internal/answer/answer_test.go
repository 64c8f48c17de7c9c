package answer_test

import (
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/fault"
)

var questions = []answer.Question{
	{ID: "title", Text: "Title", Kind: "text", Needed: true},
	{ID: "rows", Text: "Rows", Kind: "number", Default: "20"},
	{ID: "open", Text: "Open", Kind: "yes-no", Default: "yes"},
	{ID: "skin", Text: "Skin", Kind: "one-of", Options: []string{"light", "dark"}},
	{ID: "key", Text: "Key", Kind: "text", Pattern: "[A-Z]{4}-[0-9]{2}"},
	{ID: "admin.email", Text: "E-mail", Kind: "text", Needed: true, Check: answer.Email},
	{ID: "admin.password", Text: "Password", Kind: "text", Secret: true},
}

func TestResolve(t *testing.T) {
	got, problems := answer.Resolve(questions, answer.Given{"title": "T", "admin.email": "a@b.example", "key": "ABCD-12",
		"admin.password": "spaces stay"})
	assert.Empty(t, problems)
	assert.Equal(t, answer.Given{"title": "T", "rows": "20", "open": "yes", "skin": "", "key": "ABCD-12",
		"admin.email": "a@b.example", "admin.password": "spaces stay"}, got)
}

// Spaces around an answer are nobody's intention; in a password they are said.
func TestSpacesAround(t *testing.T) {
	got, problems := answer.Resolve(questions, answer.Given{"title": " T  of ours\t", "admin.email": " a@b.example",
		"rows": " 7 "})
	assert.Empty(t, problems)
	assert.Equal(t, "T  of ours|a@b.example|7", got["title"]+"|"+got["admin.email"]+"|"+got["rows"])
	_, problems = answer.Resolve(questions, answer.Given{"title": "T", "admin.email": "a@b.example",
		"admin.password": " Harbour-tide-72"})
	assert.Equal(t, "it begins or ends with a space", problems[0].What)
	_, problems = answer.Resolve(questions, answer.Given{"title": "  ", "admin.email": "a@b.example"})
	assert.Equal(t, "title", problems[0].ID, "nothing but spaces is no answer")
}

func TestAllProblemsAtOnce(t *testing.T) {
	_, problems := answer.Resolve(questions, answer.Given{
		"title": "", "rows": "many", "open": "maybe", "skin": "drak", "key": "ABCD-123", "admin.email": "no",
		"admin.pasword": "x"})
	said := map[string]string{}
	for _, p := range problems {
		said[p.ID] = p.What + " " + p.Remedy
	}
	for id, words := range map[string]string{
		"title": "give it with -a title=", "rows": "not a whole number", "open": "yes or no",
		"skin": "Did you mean dark?",
		"key":  "It has to match", "admin.email": "has an @", "admin.pasword": "Did you mean admin.password?",
	} {
		assert.Contains(t, said[id], words)
	}
	assert.Equal(t, "title", problems[0].ID, "in the order of the questions")
	_, problems = answer.Resolve(questions, answer.Given{})
	err := fault.Join("x", "", problems)
	assert.Equal(t, []string{"title", "admin.email"}, fault.Of(err).Missing)
}

func TestAwkwardAnswers(t *testing.T) {
	for value, words := range map[string]string{
		"":                          "",
		strings.Repeat("x", 201):    "201 characters",
		"a\nb":                      "line breaks",
		"a\x1b[31m":                 "control characters",
		"a\xffb":                    "UTF-8",
		"<script>alert(1)</script>": "fine",
		`'"\$`:                      "fine",
		"🚤 ما":                      "fine",
	} {
		_, problems := answer.Resolve(questions[:1], answer.Given{"title": value})
		switch words {
		case "":
			assert.Equal(t, fault.Needed, problems[0].What)
		case "fine":
			assert.Empty(t, problems, value)
		default:
			require.Len(t, problems, 1)
			assert.Contains(t, problems[0].What, words)
		}
	}
}

func TestEmail(t *testing.T) {
	for _, fine := range []string{"a@b.example", "wharfinger@lockside.localhost", "o'neill+x@sub.example.org"} {
		what, _ := answer.Email(fine)
		assert.Empty(t, what, fine)
	}
	for _, bad := range []string{"a", "a@", "@b.example", "a@b", "a b@c.example", "a@b@c.example", "A <a@b.example>",
		"a@-b.example", "a@b..example", "a@b.example, c@d.example", "a@192.168.0.1"} {
		what, remedy := answer.Email(bad)
		assert.NotEmpty(t, what, bad)
		assert.NotEmpty(t, remedy)
	}
}

const file = `# comment
install: willowbench
at: http://lockside.localhost:8780/forum
release: "2.4.1"
answers:
  title: Lockside Talk
  board: 012
  admin: {name: wharfinger, password: generate}
  care: {accepts: nothing}
`

func TestFile(t *testing.T) {
	f, err := answer.Parse([]byte(file))
	require.NoError(t, err)
	assert.Equal(t, "willowbench", f.Install)
	assert.Equal(t, "2.4.1", f.Release)
	assert.Equal(t, answer.Given{"title": "Lockside Talk", "board": "012", "admin.name": "wharfinger",
		"admin.password": "generate", "care.accepts": "nothing"}, f.Answers)
	text, err := f.Format()
	require.NoError(t, err)
	again, err := answer.Parse(text)
	require.NoError(t, err)
	assert.Equal(t, f, again)
}

func TestFileMistakes(t *testing.T) {
	for text, words := range map[string]string{
		"":                                     "has no keys",
		"- a":                                  "has no keys",
		"a: [":                                 "not YAML",
		"instal: x":                            "Did you mean install?",
		"install: a\ninstall: b":               "stands twice",
		"answers: {title: a, title: b}":        "stands twice",
		"answers: [a]":                         "keys and values",
		"answers: {title: [[a], b]}":           "a list holds names only",
		"answers: {a: &x b, title: *x}":        "an alias is no answer",
		"answers: {admin: {name: a, name: b}}": "stands twice",
	} {
		_, err := answer.Parse([]byte(text))
		require.Error(t, err, text)
		said := err.Error()
		for _, p := range fault.Of(err).Problems {
			said += p.String()
		}
		assert.Contains(t, said, words)
	}
}

func TestOptions(t *testing.T) {
	open := func(name string) (io.ReadCloser, error) {
		if name == "none" {
			return nil, errors.New("not there")
		}
		return io.NopCloser(strings.NewReader("from " + name + "\r\n")), nil
	}
	got, err := answer.Options([]string{"title=a=b", "x=@file", "y=@-", "z=@@home", "e="}, open)
	require.NoError(t, err)
	assert.Equal(t, answer.Given{"title": "a=b", "x": "from file", "y": "from -", "z": "@home", "e": ""}, got)
	_, err = answer.Options([]string{"title", "=x", "a=@none", "b=1", "b=2"}, open)
	assert.Len(t, fault.Of(err).Problems, 4)
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(file))
	f.Add([]byte("a: &a [*a]"))
	f.Fuzz(func(t *testing.T, text []byte) { _, _ = answer.Parse(text) })
}

func TestBothConditions(t *testing.T) {
	one, err := answer.ParseCondition("a == 1")
	require.NoError(t, err)
	other, err := answer.ParseCondition("not b")
	require.NoError(t, err)
	both := one.And(other)
	assert.True(t, both.Holds(answer.Given{"a": "1"}))
	assert.False(t, both.Holds(answer.Given{"a": "1", "b": "yes"}))
	assert.False(t, both.Holds(answer.Given{"b": "no"}))
	assert.Equal(t, []string{"a"}, one.Names(), "the one is what it was")
	assert.True(t, answer.Condition{}.And(answer.Condition{}).Holds(nil))
	assert.False(t, answer.Never.Holds(answer.Given{"": "x"}))
}
