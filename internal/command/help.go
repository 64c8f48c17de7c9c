package command

import (
	"io"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tivset/internal/screen"
)

// groups are the headings under which the help lists the commands: those of the first hour come first.
var groups = []struct{ id, title, commands string }{
	{"first", "The first hour:", "demo account browse install sites sign-in"},
	{"sites", "Sites:", "about show label reveal copy move adopt find remove free forget password"},
	{"upkeep", "Looking after sites:", "check update backup restore care notify maintain report metrics handover"},
	{"kits", "Accounts and kits:", "kit catalogue"},
	{"team", "Several people and machines:", "ledger team history queue worker"},
	{"wrong", "When something went wrong:", "jobs undo resume recovery"},
	{"more", "More:", "help completion"},
}

// grouped puts the commands under their headings.
func grouped(root *cobra.Command) {
	cobra.EnableCommandSorting = false
	by := map[string]*cobra.Command{}
	for _, c := range root.Commands() {
		by[c.Name()] = c
		root.RemoveCommand(c)
	}
	for _, g := range groups {
		root.AddGroup(&cobra.Group{ID: g.id, Title: g.title})
		for _, name := range strings.Fields(g.commands) {
			if c := by[name]; c != nil {
				c.GroupID = g.id
				root.AddCommand(c)
				delete(by, name)
			}
		}
	}
	for _, c := range by {
		root.AddCommand(c) // which a test names
	}
	root.SetHelpCommandGroupID("more") // the completion command comes when the program runs
	root.SetCompletionCommandGroupID("more")
	root.SetUsageTemplate(strings.NewReplacer("\nFlags:\n", "\nOptions:\n", "Global Flags:", "Options of all commands:",
		"Available Commands:", "Commands:", "[flags]", "[options]", "information about a command",
		"about a command").Replace(root.UsageTemplate()))
	root.SetGlobalNormalizationFunc(spelt)
}

// foldedHelp has help fit the terminal that shows it.
func foldedHelp(root *cobra.Command, streams *screen.Streams) {
	usual := root.HelpFunc()
	root.SetHelpFunc(func(c *cobra.Command, args []string) {
		if !streams.OutTerminal {
			usual(c, args)
			return
		}
		var text strings.Builder
		out := c.OutOrStdout()
		c.SetOut(&text)
		usual(c, args)
		c.SetOut(out)
		_, _ = io.WriteString(out, streams.Folded(text.String()))
	})
}

// spelt takes the American spelling of an option for ours.
func spelt(_ *pflag.FlagSet, name string) pflag.NormalizedName {
	return pflag.NormalizedName(strings.ReplaceAll(name, "license", "licence"))
}

// helped is the help command: a word that is no command is said to be none.
func helped(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "help [COMMAND]", Short: "Show what a command does",
		Example: "  tivset help install\n  tivset help account add",
		RunE: func(c *cobra.Command, args []string) error {
			of, rest, err := c.Root().Find(args)
			if err != nil || of == nil || of == c.Root() && len(args) > 0 || len(rest) > 0 {
				at := c.Root()
				if of != nil && of != c.Root() {
					at = of
				}
				return a.Unknown(at, append(rest, args...)[:1])
			}
			return of.Help()
		}}
}

// american takes the American spelling of a command for ours.
func american(args []string) []string {
	for i, word := range args {
		if word == "catalog" {
			args = append(append(append([]string{}, args[:i]...), "catalogue"), args[i+1:]...)
			return args
		}
		if !strings.HasPrefix(word, "-") {
			return args
		}
	}
	return args
}
