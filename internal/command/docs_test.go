package command

import (
	"bytes"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/command/cli"
	"tivset/internal/fault"
)

var rewrite = flag.Bool("update", false, "write the generated docs anew")

const reference = "../../docs/commands.md"

// The reference of commands is written from the commands themselves.
func TestDocsOfCommands(t *testing.T) {
	a := &app{&cli.App{World: System(), Streams: System().Streams()}}
	var out bytes.Buffer
	out.WriteString("# Commands\n\nWritten from the program itself. Options of every command:\n\n")
	root := a.root()
	options(&out, root.PersistentFlags().FlagUsages())
	describe(&out, root)
	if *rewrite {
		require.NoError(t, os.WriteFile(reference, out.Bytes(), 0o644))
	}
	have, err := os.ReadFile(reference)
	require.NoError(t, err)
	assert.Equal(t, out.String(), string(have), "run: go test ./internal/command ./internal/app/kit -run Docs -update")
}

// The codes of faults are written from their list; each is used somewhere, and none is there twice.
func TestDocsOfFaults(t *testing.T) {
	var out bytes.Buffer
	out.WriteString("# Codes of faults\n\nWritten from the program itself. `error.code` of what a command with `--json` " +
		"prints when it fails. More may come;\nnone changes its meaning.\n\n| code | what happened |\n|---|---|\n")
	seen, used := map[fault.Code]bool{}, codesInUse(t)
	for _, m := range fault.Meanings {
		assert.False(t, seen[m.Code], m.Code)
		seen[m.Code] = true
		assert.Contains(t, used, m.Code, "nothing has this code")
		fmt.Fprintf(&out, "| `%s` | %s |\n", m.Code, m.Text)
	}
	for code := range used {
		assert.True(t, seen[code], "%s is not explained", code)
	}
	const file = "../../docs/faults.md"
	if *rewrite {
		require.NoError(t, os.WriteFile(file, out.Bytes(), 0o644))
	}
	have, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, out.String(), string(have), "run: go test ./internal/command ./internal/app/kit -run Docs -update")
}

// codesInUse reads the code for the codes that faults are given, with those of their kinds.
func codesInUse(t *testing.T) map[fault.Code]bool {
	t.Helper()
	values, used := map[string]fault.Code{}, map[fault.Code]bool{}
	text, err := os.ReadFile("../fault/codes.go")
	require.NoError(t, err)
	for _, m := range regexp.MustCompile(`(\w+) +Code = "([a-z-]+)"`).FindAllStringSubmatch(string(text), -1) {
		values[m[1]] = fault.Code(m[2])
	}
	for _, m := range regexp.MustCompile(`(?:return|Failed:|Usage:|NeedsConfirmation:|Incomplete:) (\w+)[,}\n]`).FindAllStringSubmatch(string(text), -1) {
		if code, is := values[m[1]]; is {
			used[code] = true
		}
	}
	name := regexp.MustCompile(`fault\.(\w+)\b`)
	require.NoError(t, filepath.WalkDir("..", func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		text, err := os.ReadFile(file)
		for _, m := range name.FindAllStringSubmatch(string(text), -1) {
			if code, is := values[m[1]]; is {
				used[code] = true
			}
		}
		return err
	}))
	used[values["Interrupted"]] = true // by the package itself
	return used
}

func describe(out *bytes.Buffer, c *cobra.Command) {
	if c.Runnable() && c.Name() != "tivset" && c.Short != "" && c.Annotations[cli.OnlyHolds] == "" {
		fmt.Fprintf(out, "\n## %s\n\n%s.\n", strings.TrimPrefix(c.UseLine(), "tivset "), c.Short)
		if c.Long != "" {
			fmt.Fprintf(out, "\n%s\n", c.Long)
		}
		if c.HasAvailableLocalFlags() {
			out.WriteString("\n")
			options(out, c.LocalNonPersistentFlags().FlagUsages())
		}
		if c.Example != "" {
			fmt.Fprintf(out, "\n```\n%s\n```\n", strings.ReplaceAll(strings.TrimPrefix(c.Example, "  "), "\n  ", "\n"))
		}
	}
	for _, sub := range c.Commands() {
		describe(out, sub)
	}
}

func options(out *bytes.Buffer, usages string) {
	if strings.TrimSpace(usages) != "" {
		fmt.Fprintf(out, "```\n%s```\n", usages)
	}
}

// quotes are the quoted values of an example.
var quotes = regexp.MustCompile(`"[^"]*"`)

// Every command that can be run has two examples, which its own parser takes, and a phrase without a stop.
func TestEveryCommandIsExplained(t *testing.T) {
	a := &app{&cli.App{World: System(), Streams: System().Streams()}}
	var look func(c *cobra.Command)
	look = func(c *cobra.Command) {
		if c.Runnable() && !c.HasSubCommands() {
			examples := strings.Split(strings.ReplaceAll(c.Example, "\\\n", ""), "\n")
			assert.GreaterOrEqual(t, len(examples), 2, c.CommandPath())
			for _, e := range examples {
				assert.True(t, strings.HasPrefix(e, "  tivset "), e)
				assert.Empty(t, refuses(written{words: strings.Fields(quotes.ReplaceAllString(e, "word"))[1:]}), e)
			}
		}
		assert.NotEmpty(t, c.Short, c.CommandPath())
		assert.False(t, strings.HasSuffix(c.Short, "."), c.CommandPath())
		for _, sub := range c.Commands() {
			look(sub)
		}
	}
	look(a.root())
}
