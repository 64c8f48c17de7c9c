package arch_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// givenUp are words and turns that readers stumbled over, or that have another word now; what stands in their place.
// The
// list grows.
var givenUp = []struct{ not, but string }{
	{`\bfor whom a site\b`, "to give to a site's owner"},
	{`\bentrust(s|ed)?\b`, "how a site is looked after"},
	{`\bwhoever (made|publishes) `, "the kit's author, its publisher"},
	{`\bwhat is folded\b`, "every line"},
	{`\bstands after the @`, "is after the @"},
	{`\bdoes not bear\b`, "does not accept"},
	{`\basked for; at least\b`, "must"},
	{`\bNo site is like\b`, "No site matches."},
	{`\bchecks are (not )?fine\b`, "checks passed, failed"},
	{`\bnobody vouches\b|\bvouches for\b`, "scripts that are not part of the app; added on purpose"},
	{`\blets (one|quill) in\b`, "accepted; signed in"},
	{`\bSee that visitors\b`, "Check that visitors"},
	{`\bBring the data\b`, "Migrate the database"},
	{`\bProven:`, "Seen to work:"},
	{`\btaken out of\b|\bTake it out\b`, "removed from, remove"},
	{`\bmends\b`, "fixes"},
	{`\bby then is kept\b`, "at that moment is kept"},
	{`\bas it will be right later\b`, "Keep it anyway?"},
	{`\bnames begin with anything\b`, "no name prefix"},
	{`\bthe host(ing)?'s own pages\b`, "the host's control panel"},
	{`\b(in|of|Write) (reach|store):|\breach: sftp`, "files:, own-folder:"},
	{`\b[Cc]ouriers?\b`, "helper page"},
	{`\b[Tt]ake charge\b|\btaken charge\b`, "manage"},
	{`\btagline\b`, "subtitle"},
	{`--at-once\b`, "--parallel"},
	{`\btivset (rounds|enter)\b`, "maintain, sign-in"},
	{`\b(makes?|make a|another|one mail a) rounds?\b`, "maintenance run"},
	{`\badmin side\b`, "admin area"},
	{`\bthe account's store\b`, "Tivset's own folder"},
	{`\bsealed for\b`, "encrypted to"},
	{`\b(taken|[Tt]ake|[Tt]akes) back (a|the|what|its) (job|steps|install)`, "undo"},
	{`\busual, late\b|\burgent, usual\b`, "urgent, normal, low"},
	{`\bcatalog\b|\blicense\b`, "catalogue, licence"},
}

// shown lists every text of the product's files that a person may read, with its place: literals with a space in
// them, and
// the lines of the docs and of the kits' own texts.
func shown(t *testing.T, each func(place, text string)) {
	t.Helper()
	apart := regexp.MustCompile(`^\.\./internal/(standin|testing)/`)
	require.NoError(t, filepath.WalkDir("../internal", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") ||
			apart.MatchString(name) {
			return err
		}
		fset := token.NewFileSet()
		file, err := parser.ParseFile(fset, name, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if field, is := n.(*ast.Field); is && field.Tag != nil {
				return false
			}
			text, is := whole(n)
			if is && strings.Contains(text, " ") {
				each(fset.Position(n.Pos()).String(), text)
			}
			return !is
		})
		return nil
	}))
	for _, pattern := range []string{"../README.md", "../docs/*.md", "../kits/*/about.md",
		"../internal/demo/kits/*/about.md",
		"../kits/*/kit.yaml", "../internal/demo/kits/*/kit.yaml"} {
		names, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, name := range names {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			for n, line := range strings.Split(string(text), "\n") {
				each(name+":"+strconv.Itoa(n+1), line)
			}
		}
	}
}

// whole is a text as it is read, of which the code may have several parts; “…” stands for a value.
func whole(n ast.Node) (text string, is bool) {
	switch n := n.(type) {
	case *ast.BasicLit:
		if n.Kind == token.STRING {
			text, err := strconv.Unquote(n.Value)
			return text, err == nil
		}
	case *ast.BinaryExpr:
		left, isLeft := whole(n.X)
		right, isRight := whole(n.Y)
		if n.Op != token.ADD || !isLeft && !isRight {
			return "", false
		}
		if !isLeft {
			left = "…"
		}
		if !isRight {
			right = "…"
		}
		return left + right, true
	}
	return "", false
}

// code is what documentation quotes of programs: it is what it is.
var code = regexp.MustCompile("`[^`]*`")

// Texts say things the way that words are agreed upon.
func TestWordsThatWereGivenUp(t *testing.T) {
	forms := make([]*regexp.Regexp, len(givenUp))
	for i, w := range givenUp {
		forms[i] = regexp.MustCompile(w.not)
	}
	texts := 0
	shown(t, func(place, text string) {
		texts++
		if strings.HasSuffix(strings.SplitN(place, ":", 2)[0], ".md") {
			text = code.ReplaceAllString(text, "")
		}
		for i, form := range forms {
			if found := form.FindString(text); found != "" {
				assert.Fail(t, "a word that was given up", "%s: “%s”; write: %s", place, found, givenUp[i].but)
			}
		}
	})
	assert.Greater(t, texts, 4000, "texts are found")
}
