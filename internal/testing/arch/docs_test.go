package arch_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	quotedName = regexp.MustCompile("`([^`]+)`")
	testName   = regexp.MustCompile(`^Test\w+$`)
	declared   = regexp.MustCompile(`(?m)^func (Test\w+)\(`)
)

// tests lists the tests of every package, by the package's folder: below
// internal, or below the top.
func tests(t *testing.T) map[string][]string {
	t.Helper()
	all := map[string][]string{}
	for _, top := range []string{".", "../kits", "../e2e"} {
		err := filepath.WalkDir(top, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(name, "_test.go") {
				return err
			}
			text, err := os.ReadFile(name)
			folder := strings.TrimPrefix(filepath.ToSlash(filepath.Dir(name)), "../")
			for _, m := range declared.FindAllStringSubmatch(string(text), -1) {
				all[folder] = append(all[folder], m[1])
			}
			return err
		})
		require.NoError(t, err)
	}
	return all
}

// A promise names the tests that hold it. They are there, in the package that
// stands before them.
func TestDocsNameTestsThatThereAre(t *testing.T) {
	all, named := tests(t), 0
	for _, doc := range []string{"promises.md", "hosting.md", "architecture.md"} {
		text, err := os.ReadFile("../docs/" + doc)
		require.NoError(t, err)
		folder := ""
		for _, m := range quotedName.FindAllStringSubmatch(string(text), -1) {
			if _, isPackage := all[m[1]]; isPackage {
				folder = m[1]
			}
			if testName.MatchString(m[1]) {
				named++
				assert.True(t, slices.Contains(all[folder], m[1]), "%s: %s has no %s", doc, folder, m[1])
			}
		}
	}
	assert.Greater(t, named, 60)
}

// What the tour of the house names is there.
func TestArchitectureNamesFilesThatThereAre(t *testing.T) {
	text, err := os.ReadFile("../docs/architecture.md")
	require.NoError(t, err)
	named := 0
	for _, m := range quotedName.FindAllStringSubmatch(string(text), -1) {
		if name := m[1]; strings.HasSuffix(name, ".go") && strings.Contains(name, "/") {
			named++
			_, err := os.Stat(strings.TrimPrefix(name, "internal/"))
			assert.NoError(t, err, "%s is named in architecture.md", name)
		}
	}
	assert.Greater(t, named, 20)
}
