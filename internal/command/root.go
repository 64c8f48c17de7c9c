// Package command is the command line: one file a command, each from flags to
// a request and from a result to the screen. It decides nothing.
package command

import (
	"context"
	"errors"
	"slices"

	"github.com/spf13/cobra"

	"tivset/internal/command/accounts"
	"tivset/internal/command/cli"
	"tivset/internal/command/kits"
	"tivset/internal/command/sites"
	"tivset/internal/command/team"
	"tivset/internal/command/upkeep"
	"tivset/internal/fault"
	"tivset/internal/logs"
	"tivset/internal/screen"
)

// Version is the program's version; the build sets it.
var Version = "0.1.0-dev"

// app is what every command shares.
type app struct{ *cli.App }

// System is the real world.
func System() cli.World { return cli.System() }

// Main runs the program and returns its exit code.
func Main(ctx context.Context, args []string, w cli.World) int {
	a := &app{&cli.App{World: w, Streams: w.Streams(), Args: args}}
	root := a.root()
	root.SetArgs(american(args))
	root.SetIn(w.In)
	root.SetOut(w.Out)
	root.SetErr(w.Err)
	err := fault.WasInterrupted(ctx, root.ExecuteContext(ctx))
	if err == nil {
		return 0
	}
	var quiet *cli.Silent
	if errors.As(err, &quiet) {
		return quiet.Code
	}
	if a.JSON || asksJSON(args) {
		_ = a.Streams.FaultJSON(err)
	} else {
		a.Streams.Fault(err)
	}
	return screen.Code(err)
}

// asksJSON finds --json even where the flags could not be read.
func asksJSON(args []string) bool {
	for _, a := range args {
		if a == "--json" {
			return true
		}
		if a == "--" {
			return false
		}
	}
	return false
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "tivset",
		Short: "Install web applications into hosting accounts, and look after them",
		Long: "Tivset installs blogs, forums, shops and other web applications into a hosting account:\n" +
			"it makes the database, writes the configuration, sets the admin, and checks the site.\n" +
			"Either the site is up and checked, or the account is exactly as it was.",
		Example:               "  tivset demo\n  tivset browse\n  tivset install willowbench --at lockside.localhost/forum",
		Version:               Version,
		DisableFlagsInUseLine: true,
		SilenceUsage:          true,
		SilenceErrors:         true,
		Args:                  a.Unknown,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			a.Streams.Quiet, a.Streams.Loud, a.Streams.JSON = a.Quiet, a.Verbose, a.JSON
			a.Streams.Dumb = a.Streams.Dumb || a.Plain
			a.Streams.Color = a.Streams.Color && !a.NoColor && !a.Plain
			if a.DryRun && c.Annotations[cli.Changes] != "" {
				return fault.New(fault.Usage, "this command has no dry run", c.CommandPath(),
					"Leave --dry-run out to carry it out. Nothing was touched.")
			}
			return a.openLog(c)
		},
		RunE: a.status,
	}
	root.SetVersionTemplate("tivset {{.Version}}\n")
	root.SetFlagErrorFunc(cli.UnknownOption)
	f := root.PersistentFlags()
	f.StringVar(&a.Account, "account", "", "the account to use, when several could be meant")
	f.BoolVar(&a.JSON, "json", false, "print one JSON document, for programs")
	f.BoolVarP(&a.Yes, "yes", "y", false, "ask nothing, go ahead")
	f.BoolVar(&a.DryRun, "dry-run", false, "show what would be done, change nothing")
	f.BoolVarP(&a.Quiet, "quiet", "q", false, "no progress, only results and faults")
	f.BoolVarP(&a.Verbose, "verbose", "v", false, "say more, such as what was checked")
	f.BoolVar(&a.NoColor, "no-color", false, "no colours (as does NO_COLOR)")
	f.BoolVar(&a.Plain, "plain", false, "whole lines of plain text, for screen readers (as does TERM=dumb)")
	f.StringVar(&a.LogFile, "log", "", "add what is asked of files, database, web and SSH to this file")
	cli.Option(root, "account", a.AccountWords, 0)
	root.AddCommand(
		slices.Concat([]*cobra.Command{a.demo(), a.password()}, sites.Commands(a.App), upkeep.Commands(a.App),
			accounts.Commands(a.App), kits.Commands(a.App), team.Commands(a.App))...,
	)
	root.SetHelpCommand(helped(a))
	root.InitDefaultHelpCmd()
	plain(root)
	grouped(root)
	foldedHelp(root, a.Streams)
	return root
}

// plain leaves the usage lines as they are written.
func plain(c *cobra.Command) {
	c.DisableFlagsInUseLine = true
	for _, sub := range c.Commands() {
		plain(sub)
	}
}

// openLog has all that a command does written to the file that was named. A log is closed by the program's end.
func (a *app) openLog(c *cobra.Command) error {
	if a.LogFile == "" || c.Name() == "jobs" { // which has a --log of its own
		return nil
	}
	l, _, err := logs.Open(a.LogFile, nil)
	if err != nil {
		return fault.New(fault.Usage, "the log cannot be written", a.LogFile,
			"Name a file in a folder that is there. Nothing was touched.").Wrap(err)
	}
	l.Info("command begins", "command", c.CommandPath(), "version", Version)
	c.SetContext(logs.With(c.Context(), l))
	return nil
}
