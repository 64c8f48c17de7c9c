package arch_test

import (
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// columns is how long a line of Go may be, in characters.
const columns = 120

// Lines end where a screen does, but for those that hold a raw string, which
// cannot be cut.
func TestLinesAreShort(t *testing.T) {
	err := filepath.WalkDir("..", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") {
			return err
		}
		text, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		raw := rawLines(text)
		for n, line := range strings.Split(string(text), "\n") {
			if utf8.RuneCountInString(line) > columns && !raw[n+1] {
				assert.Fail(t, "a long line", "%s:%d", name, n+1)
			}
		}
		return nil
	})
	require.NoError(t, err)
}

// rawLines are the lines on which raw strings stand.
func rawLines(text []byte) map[int]bool {
	files := token.NewFileSet()
	file := files.AddFile("", files.Base(), len(text))
	var s scanner.Scanner
	s.Init(file, text, nil, 0)
	out := map[int]bool{}
	for {
		at, tok, literal := s.Scan()
		if tok == token.EOF {
			return out
		}
		if tok == token.STRING && literal[0] == '`' {
			for n := range strings.Count(literal, "\n") + 1 {
				out[file.Line(at)+n] = true
			}
		}
	}
}
