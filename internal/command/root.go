// Package command is the command line: one file a command, each from flags to
// a request and from a result to the screen. It decides nothing.
package command

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/logs"
	"tivset/internal/records/catalogues"
	"tivset/internal/screen"
	"tivset/internal/suggest"
)

// Version is the program's version; the build sets it.
var Version = "0.1.0-dev"

// app is what every command shares.
type app struct {
	world   World
	streams *screen.Streams
	account string
	yes     bool
	dryRun  bool
	quiet   bool
	verbose bool
	logFile string
	noColor bool
	json    bool
	args    []string // as they were typed
	kits    *catalogues.Keeper

	ordering *ordering // several sites become orders of the team's queue; nil for what is done here
}

// Main runs the program and returns its exit code.
func Main(ctx context.Context, args []string, w World) int {
	a := &app{world: w, streams: w.streams(), args: args}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(w.In)
	root.SetOut(w.Out)
	root.SetErr(w.Err)
	err := fault.WasInterrupted(ctx, root.ExecuteContext(ctx))
	if err == nil {
		return 0
	}
	var quiet *silent
	if errors.As(err, &quiet) {
		return quiet.code
	}
	if a.json || asksJSON(args) {
		_ = a.streams.FaultJSON(err)
	} else {
		a.streams.Fault(err)
	}
	return screen.Code(err)
}

// changes marks the commands that change something and cannot show it first.
const changes = "changes"

func noDryRun() map[string]string { return map[string]string{changes: "yes"} }

// silent is a failure that the command has shown already.
type silent struct{ code int }

func (s *silent) Error() string { return fmt.Sprintf("exit code %d", s.code) }

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
		Example:       "  tivset demo\n  tivset browse\n  tivset install quaybench --at lockside.localhost/forum",
		Version:       Version,
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          a.unknown,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			a.streams.Quiet, a.streams.Loud, a.streams.JSON = a.quiet, a.verbose, a.json
			a.streams.Color = a.streams.Color && !a.noColor
			if a.dryRun && c.Annotations[changes] != "" {
				return fault.New(fault.Usage, "this command has no dry run", c.CommandPath(),
					"Leave --dry-run out to carry it out. Nothing was touched.")
			}
			return a.openLog(c)
		},
		RunE: a.status,
	}
	root.SetVersionTemplate("tivset {{.Version}}\n")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return fault.New(fault.Usage, err.Error(), "", "See: "+c.CommandPath()+" --help")
	})
	f := root.PersistentFlags()
	f.StringVar(&a.account, "account", "", "the account to use, when several could be meant")
	f.BoolVar(&a.json, "json", false, "print one JSON document, for programs")
	f.BoolVarP(&a.yes, "yes", "y", false, "ask nothing, go ahead")
	f.BoolVar(&a.dryRun, "dry-run", false, "show what would be done, change nothing")
	f.BoolVarP(&a.quiet, "quiet", "q", false, "no progress, only results and faults")
	f.BoolVarP(&a.verbose, "verbose", "v", false, "say more, such as what was checked")
	f.BoolVar(&a.noColor, "no-color", false, "no colours (as does NO_COLOR)")
	f.StringVar(&a.logFile, "log", "", "add what is asked of files, database, web and SSH to this file")
	option(root, "account", a.accountWords, 0)
	root.AddCommand(
		a.demo(),
		a.accounts(),
		a.browse(),
		a.about(),
		a.queued(a.install()),
		a.sites(),
		a.show(),
		a.reveal(),
		a.queued(a.check()),
		a.queued(a.update()),
		a.queued(a.backup()),
		a.queued(a.restore()),
		a.queued(a.copySite()),
		a.queued(a.move()),
		a.queued(a.remove()),
		a.queued(a.adopt()),
		a.find(),
		a.ledger(), a.team(), a.queueGroup(), a.worker(),
		a.enter(),
		a.handover(),
		a.report(), a.care(), a.rounds(),
		a.forget(),
		a.jobs(),
		a.undo(),
		a.resume(),
		a.password(),
		a.kit(),
		a.catalogueGroup(),
	)
	for _, c := range root.Commands() {
		c.DisableFlagsInUseLine = true
	}
	return root
}

// openLog has all that a command does written to the file that was named. A log is closed by the program's end.
func (a *app) openLog(c *cobra.Command) error {
	if a.logFile == "" || c.Name() == "jobs" { // which has a --log of its own
		return nil
	}
	l, _, err := logs.Open(a.logFile, nil)
	if err != nil {
		return fault.New(fault.Usage, "the log cannot be written", a.logFile,
			"Name a file in a folder that is there. Nothing was touched.").Wrap(err)
	}
	l.Info("command begins", "command", c.CommandPath(), "version", Version)
	c.SetContext(logs.With(c.Context(), l))
	return nil
}

// unknown words a command that is none.
func (a *app) unknown(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	var names []string
	for _, sub := range c.Commands() {
		names = append(names, sub.Name())
	}
	remedy := strings.TrimSpace(suggest.Hint(args[0], names) + " See: " + c.CommandPath() + " --help")
	return fault.New(fault.Usage, "there is no command "+c.CommandPath()+" "+args[0], "", remedy)
}

// takes says how many words a command takes, as a usage fault.
func takes(least, most int, usage string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		switch {
		case len(args) < least:
			return fault.New(fault.Usage, "something is missing", "", "Write: "+c.CommandPath()+" "+usage)
		case most >= 0 && len(args) > most:
			return fault.New(fault.Usage, "“"+args[most]+"” is too much", "", "Write: "+c.CommandPath()+" "+usage)
		}
		return nil
	}
}

// using makes a command's function of one that needs the service.
func (a *app) using(run func(ctx context.Context, s *core.Core, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(c *cobra.Command, args []string) error {
		s, done, err := a.core(c.Context())
		if err != nil {
			return err
		}
		defer done()
		if c.Name() != "jobs" && c.Name() != "undo" && c.Name() != "resume" {
			a.remind(c.Context(), s)
		}
		return run(c.Context(), s, args)
	}
}

// remind says what a crash left half done, and what to do about it.
func (a *app) remind(ctx context.Context, s *core.Core) {
	if a.quiet || a.json {
		return
	}
	left, err := s.Desk.Unfinished(ctx)
	if err != nil {
		return // the command itself will meet it
	}
	for _, j := range left {
		a.streams.Warn(fmt.Sprintf("the %s of %s at %s was left half done. Take it back with: tivset undo %s; or bring it "+
			"to its end with: tivset resume %s", j.What, j.App, j.Address, j.ID, j.ID))
	}
}

// onlyHolds marks the commands that do nothing themselves.
const onlyHolds = "only holds others"

// group is a command that only holds others.
func (a *app) group(use, short string, subs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: a.unknown, Annotations: map[string]string{onlyHolds: "yes"},
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	c.AddCommand(subs...)
	return c
}
