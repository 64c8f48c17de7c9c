package command

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var rewrite = flag.Bool("update", false, "write the generated docs anew")

const reference = "../../docs/commands.md"

// The reference of commands is written from the commands themselves.
func TestDocsOfCommands(t *testing.T) {
	a := &app{world: System(), streams: System().streams()}
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

func describe(out *bytes.Buffer, c *cobra.Command) {
	if c.Runnable() && c.Name() != "tivset" && c.Short != "" && !c.HasSubCommands() {
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

// Every command that can be run has an example, and a phrase without a stop.
func TestEveryCommandIsExplained(t *testing.T) {
	a := &app{world: System(), streams: System().streams()}
	var look func(c *cobra.Command)
	look = func(c *cobra.Command) {
		if c.Runnable() && !c.HasSubCommands() {
			assert.NotEmpty(t, c.Example, c.CommandPath())
		}
		assert.NotEmpty(t, c.Short, c.CommandPath())
		assert.False(t, strings.HasSuffix(c.Short, "."), c.CommandPath())
		for _, sub := range c.Commands() {
			look(sub)
		}
	}
	look(a.root())
}
