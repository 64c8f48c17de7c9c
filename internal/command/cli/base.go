package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/catalogues"
	"tivset/internal/screen"
	"tivset/internal/suggest"
)

// App is what every command shares.
type App struct {
	World   World
	Streams *screen.Streams
	Account string
	Yes     bool
	DryRun  bool
	Quiet   bool
	Verbose bool
	LogFile string
	NoColor bool
	Plain   bool
	JSON    bool
	Args    []string // as they were typed
	Kits    *catalogues.Keeper

	Ordering *Ordering // several sites become orders of the team's queue; nil for what is done here
}

// Changes marks the commands that change something and cannot show it first.
const Changes = "changes"

func NoDryRun() map[string]string { return map[string]string{Changes: "yes"} }

// Silent is a failure that the command has shown already.
type Silent struct{ Code int }

// Quiet is a failure that was shown already, with its exit code.
func Quiet(code int) *Silent { return &Silent{code} }

// Error implements error.
func (s *Silent) Error() string { return fmt.Sprintf("exit code %d", s.Code) }

// trade are words that people know from elsewhere, and the commands that do what they mean.
var trade = map[string]string{"uninstall": "remove", "delete": "remove", "upgrade": "update", "clone": "copy",
	"staging": "copy", "login": "sign-in", "open": "sign-in", "enter": "sign-in", "list": "sites", "import": "adopt",
	"search": "browse", "apps": "browse", "rollback": "undo, or restore", "cron": "maintain", "schedule": "maintain",
	"rounds": "maintain"}

// Unknown words a command that is none.
func (a *App) Unknown(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	var names []string
	for _, sub := range c.Commands() {
		names = append(names, sub.Name())
	}
	hint := suggest.Hint(args[0], names)
	if ours := trade[args[0]]; ours != "" && !c.HasParent() {
		hint = "Did you mean " + ours + "?"
	}
	remedy := strings.TrimSpace(hint + " See: " + c.CommandPath() + " --help")
	return fault.New(fault.Usage, "there is no command "+c.CommandPath()+" "+args[0], "", remedy)
}

// tradeOptions are options that people know from elsewhere or from before, and ours.
var tradeOptions = map[string]string{"at-once": "parallel", "jobs": "parallel", "workers": "parallel",
	"recipient": "encrypt-to", "drop": "delete", "takes": "accepts", "waits": "after", "hours": "between",
	"rehearses": "rehearse", "tells": "notify", "domain": "at", "path": "at", "url": "at", "address": "at",
	"version": "release", "set": "answer", "output": "into", "exclude": "without", "non-interactive": "yes"}

// UnknownOption words an option that a command has not, with the one that was probably meant.
func UnknownOption(c *cobra.Command, err error) error {
	remedy := "See: " + c.CommandPath() + " --help"
	var none *pflag.NotExistError
	if !errors.As(err, &none) || none.GetSpecifiedShortnames() != "" {
		return fault.New(fault.Usage, err.Error(), "", remedy)
	}
	word, names := none.GetSpecifiedName(), []string{}
	c.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	hint := suggest.To(word, names)
	if ours := tradeOptions[word]; c.Flags().Lookup(ours) != nil {
		hint = ours
	}
	if hint != "" {
		remedy = "Did you mean --" + hint + "? " + remedy
	}
	return fault.New(fault.Usage, "there is no option --"+word, c.CommandPath(), remedy)
}

// Takes says how many words a command takes, as a usage fault.
func Takes(least, most int, usage string) cobra.PositionalArgs {
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

// Using makes a command's function of one that needs the service.
func (a *App) Using(run func(ctx context.Context, s *core.Core, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(c *cobra.Command, args []string) error {
		s, done, err := a.Core(c.Context())
		if err != nil {
			return err
		}
		defer done()
		defer a.refresh(context.WithoutCancel(c.Context()), s)
		if c.Name() != "jobs" && c.Name() != "undo" && c.Name() != "resume" {
			a.remind(c.Context(), s)
		}
		return run(c.Context(), s, args)
	}
}

// remind says what a crash left half done, and what to do about it.
func (a *App) remind(ctx context.Context, s *core.Core) {
	if a.Quiet || a.JSON {
		return
	}
	left, err := s.Desk.Unfinished(ctx)
	if err != nil {
		return // the command itself will meet it
	}
	for _, j := range left {
		a.Streams.Warn(fmt.Sprintf("the %s of %s at %s was left half done. Take it back with: tivset undo %s; or bring it "+
			"to its end with: tivset resume %s", j.What, j.App, j.Address, j.ID, j.ID))
	}
}

// OnlyHolds marks the commands that do nothing themselves.
const OnlyHolds = "only holds others"

// Group is a command that only holds others.
func (a *App) Group(use, short string, subs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: a.Unknown, Annotations: map[string]string{OnlyHolds: "yes"},
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	c.AddCommand(subs...)
	return c
}

// NotBoth is the fault of two options that do not go together.
func NotBoth(one string, first bool, other string, second bool) error {
	if !first || !second {
		return nil
	}
	return fault.New(fault.Usage, one+" and "+other+" do not go together", "",
		"Do one after the other. Nothing was touched.")
}

// ReadFile reads a file that was named; - is standard input.
func (a *App) ReadFile(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(a.Streams.In, 1<<20))
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, fault.New(fault.Usage, "the file cannot be read", name, "Check its name.").Wrap(err)
	}
	return text, nil
}
