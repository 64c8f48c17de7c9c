package command

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/command/cli"
)

// written is a call of the program that stands in the code.
type written struct {
	at    string   // file:line
	words []string // a word that is known only when it is said stands for itself, as WORD
	open  bool     // more words may follow that the code puts together
}

// word stands for a word that the code puts in when it runs.
const word = "WORD"

// sources parses every file of ours that is no test.
func sources(t *testing.T, each func(name string, file *ast.File, fset *token.FileSet)) {
	t.Helper()
	fset := token.NewFileSet()
	err := filepath.WalkDir("..", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(fset, name, nil, 0)
		if err == nil {
			each(name, file, fset)
		}
		return err
	})
	require.NoError(t, err)
}

// remedies finds the calls that the core puts into its texts.
func remedies(t *testing.T) (out []written) {
	t.Helper()
	sources(t, func(_ string, file *ast.File, fset *token.FileSet) {
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			f, ok := call.Fun.(*ast.SelectorExpr)
			if !ok || f.Sel.Name != "Call" {
				return true
			}
			if pkg, isName := f.X.(*ast.Ident); !isName || pkg.Name != "fault" {
				return true
			}
			w := written{at: fset.Position(call.Pos()).String()}
			for _, arg := range call.Args {
				text := word
				if literal, ok := arg.(*ast.BasicLit); ok {
					text, _ = strconv.Unquote(literal.Value)
				}
				w.words = append(w.words, text)
			}
			out = append(out, w)
			return true
		})
	})
	return out
}

// spelled is a call as the command line spells it: up to the end of the sentence.
var spelled = regexp.MustCompile(`\btivset((?: [\w…/.=*~:"@-]*[\w…/=*"-])+)`)

// quoted is a word of several in quotes, as in an example.
var quoted = regexp.MustCompile(`"[^"]*"`)

// screenCalls finds the calls that the command line and the screen spell
// themselves, as far as a literal holds them.
func screenCalls(t *testing.T) (out []written) {
	t.Helper()
	sources(t, func(name string, file *ast.File, fset *token.FileSet) {
		if !strings.HasPrefix(name, "../command/") && !strings.HasPrefix(name, "../screen/") {
			return
		}
		ast.Inspect(file, func(n ast.Node) bool {
			literal, ok := n.(*ast.BasicLit)
			if !ok || literal.Kind != token.STRING {
				return true
			}
			text, err := strconv.Unquote(literal.Value)
			if err != nil {
				return true
			}
			text = quoted.ReplaceAllString(text, word)
			for _, m := range spelled.FindAllStringSubmatchIndex(text, -1) {
				w := written{at: fset.Position(literal.Pos()).String()}
				part := text[m[0]:m[1]]
				after := strings.TrimLeft(text[m[1]:], " ")
				w.open = after == "" || after[0] == '%'
				w.words = strings.Fields(strings.TrimPrefix(part, "tivset"))
				out = append(out, w)
			}
			return true
		})
	})
	return out
}

// refuses says why the program's own parser would refuse a call; "" when it
// takes it.
func refuses(w written) string {
	a := &app{&cli.App{World: System(), Streams: System().Streams()}}
	root := a.root()
	words := w.words
	c, rest, err := root.Find(words)
	if err != nil {
		return err.Error()
	}
	if c == root && len(words) > 0 && !strings.HasPrefix(words[0], "-") {
		return "there is no command " + words[0]
	}
	if err := c.ParseFlags(rest); err != nil {
		if strings.Contains(err.Error(), "help requested") {
			return ""
		}
		if w.open && strings.Contains(err.Error(), "needs an argument") {
			return ""
		}
		return err.Error()
	}
	if w.open {
		return ""
	}
	if c.Annotations[cli.OnlyHolds] != "" {
		return "it is only a group of commands"
	}
	if err := c.ValidateArgs(c.Flags().Args()); err != nil {
		return err.Error()
	}
	if a.DryRun && c.Annotations[cli.Changes] != "" {
		return "it has no dry run"
	}
	return ""
}

// Whatever the program tells somebody to type, it takes.
func TestEveryRemedyIsACallThatTheProgramAccepts(t *testing.T) {
	all := remedies(t)
	require.Greater(t, len(all), 50, "the calls of the core are found")
	for _, w := range all {
		assert.Empty(t, refuses(w), "%s: tivset %s", w.at, strings.Join(w.words, " "))
	}
	own := screenCalls(t)
	require.Greater(t, len(own), 60, "the calls of the command line are found")
	for _, w := range own {
		assert.Empty(t, refuses(w), "%s: tivset %s", w.at, strings.Join(w.words, " "))
	}
}

// The test above can fail.
func TestRefusedCalls(t *testing.T) {
	for _, words := range [][]string{
		{"acount", "trust", word}, {"account", "trust"}, {"backup", word, "--dry-run"}, {"show", word, "--nonsense"},
		{"account"}, {"resume"}, {"sites", "--sort"},
	} {
		assert.NotEmpty(t, refuses(written{words: words}), "%v", words)
	}
}

// No file of the core spells a call: it says which, and the command line spells
// it.
func TestTheCoreSpellsNoCall(t *testing.T) {
	sources(t, func(name string, file *ast.File, fset *token.FileSet) {
		for _, side := range []string{"../command/", "../screen/", "../demo/", "../standin/", "../testing/"} {
			if strings.HasPrefix(filepath.ToSlash(name), side) {
				return
			}
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if literal, ok := n.(*ast.BasicLit); ok && literal.Kind == token.STRING {
				assert.NotRegexp(t, `\btivset [a-z]+( |$)`, strings.Trim(literal.Value, "\"`"),
					fset.Position(literal.Pos()).String())
			}
			return true
		})
	})
}
