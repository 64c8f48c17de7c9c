package upkeep

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/atomicfile"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/recovery"
	"tivset/internal/screen"
	"tivset/internal/secret"
	"tivset/internal/wizard"
)

// passphraseAnswer is how a passphrase is given where nobody is asked.
const passphraseAnswer = "passphrase"

func (a *app) recovery() *cobra.Command {
	return a.Group("recovery", "What opens records and backups again when this machine is lost", a.recoverySave(),
		a.recoveryOpen(), a.recoveryStatus())
}

func (a *app) recoverySave() *cobra.Command {
	var given []string
	var page string
	c := &cobra.Command{
		Use:   "save FILE [--page FILE]",
		Short: "Save what opens everything again, locked with a passphrase",
		Long: "Saves the vault and its key, the accounts, the ledger and the journals in one file that is locked with\n" +
			"a passphrase: with it another machine goes on where this one was lost. Keep the file somewhere else, such\n" +
			"as on a stick, and the passphrase apart from it. As long as the file is where it was saved, it is\n" +
			"brought up to date after each command that changes something, without the passphrase.",
		Example: "  tivset recovery save /media/stick/tivset-recovery\n" +
			"  tivset recovery save ./tivset-recovery -a passphrase=@words.txt --page recovery.html",
		Args: cli.Takes(1, 1, "FILE"), Annotations: cli.NoDryRun(),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			file, err := filepath.Abs(args[0])
			if err != nil {
				return err
			}
			phrase, err := a.newPassphrase(ctx, s, given)
			if err != nil {
				return err
			}
			from, err := a.Recoverable(ctx, s)
			if err != nil {
				return err
			}
			if _, err := recovery.Save(ctx, from, file, phrase); fault.Of(err).Kind == fault.NeedsConfirmation {
				return err
			} else if err != nil {
				return fault.New(fault.Failed, "the recovery file cannot be written", file,
					"Choose another place.").Wrap(err)
			}
			if page != "" {
				if err := atomicfile.Write(page, []byte(recovery.Page(from.Manifest, file)), 0o600); err != nil {
					return fault.New(fault.Failed, "the file is saved, and its page cannot be written", page,
						"Choose another place with --page.").Wrap(err)
				}
			}
			return a.savedRecovery(from.Manifest, file, page)
		}),
	}
	c.Flags().StringVar(&page, "page", "", "write a page to print, which says what the file is and how it is opened")
	c.Flags().StringArrayVarP(&given, "answer", "a", nil, "passphrase=@FILE; @- reads standard input")
	return c
}

func (a *app) savedRecovery(m recovery.Manifest, file, page string) error {
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"outcome": "saved", "file": file, "sites": m.Sites,
			"accounts": m.Accounts})
	}
	a.Streams.Print("Saved to %s: %s, %s, with their passwords.", file, screen.Counted(m.Sites, "site"),
		screen.Counted(len(m.Accounts), "account"))
	if page != "" {
		a.Streams.Print("The page to print is in %s.", page)
	}
	a.Streams.Say("Take a copy of it away from this machine, and keep the passphrase apart from it. On another\n" +
		"machine: tivset recovery open FILE")
	return nil
}

// newPassphrase takes a passphrase that holds, or makes one.
func (a *app) newPassphrase(ctx context.Context, s *core.Core, options []string) (string, error) {
	given, err := a.Given(options)
	if err != nil {
		return "", err
	}
	if phrase := given[passphraseAnswer]; phrase != "" || !a.Streams.Asks() {
		if what, remedy := weak(phrase); what != "" {
			return "", fault.New(fault.Usage, what, passphraseAnswer, remedy+" Give it with -a passphrase=@FILE.")
		}
		return phrase, nil
	}
	ask := screen.NewAsker(a.Streams)
	for {
		first, err := ask.Ask(ctx, wizard.Prompt{Text: "A passphrase (nothing makes one)", Unseen: true,
			Help: "It opens the file on another machine; nobody can get it back. Five or more words that do not belong " +
				"together are easy to write down and hard to guess.",
			Check: func(v string) (string, string) {
				if v == "" {
					return "", ""
				}
				return weak(v)
			}})
		if err != nil {
			return "", notSaved
		}
		if first == "" {
			return a.madePassphrase(ctx, s, ask)
		}
		again, err := ask.Ask(ctx, wizard.Prompt{Text: "The same once more", Unseen: true})
		if err != nil {
			return "", notSaved
		}
		if first == again {
			return first, nil
		}
		ask.Refuse("the two are not the same", "Type it twice again.")
	}
}

var notSaved = fault.New(fault.NeedsConfirmation, "nothing was saved", "", "Begin again when you are ready.")

// weak says why a passphrase will not do: whoever finds the file can try as long as they like.
func weak(phrase string) (what, remedy string) {
	if phrase == "" {
		return "a passphrase is needed", "Choose one of five words or more."
	}
	if r := secret.Gauge(phrase); !r.Enough {
		return "it can be guessed in " + r.Lasts, "Use five or more words that do not belong together."
	}
	return "", ""
}

// madePassphrase makes one that can be written down: five groups of small letters and digits.
func (a *app) madePassphrase(ctx context.Context, s *core.Core, ask *screen.Asker) (string, error) {
	const groups, each = 5, 5
	var parts []string
	for range groups {
		token, err := s.Desk.Maker.Token(each)
		if err != nil {
			return "", err
		}
		parts = append(parts, token)
	}
	phrase := strings.Join(parts, "-")
	ask.Note("  " + phrase)
	if _, err := ask.Ask(ctx, wizard.Prompt{Text: "Write it down, then press Enter"}); err != nil {
		return "", notSaved
	}
	return phrase, nil
}

func (a *app) recoveryOpen() *cobra.Command {
	var given []string
	var aside bool
	c := &cobra.Command{
		Use:   "open FILE [--set-aside]",
		Short: "Go on here with what another machine saved",
		Long: "Brings vault, accounts, ledger and journals of a recovery file to this machine, which goes on as if it\n" +
			"were the one that saved it. Records that are here already are never written over: with --set-aside they get\n" +
			"other names.",
		Example: "  tivset recovery open /media/stick/tivset-recovery\n" +
			"  tivset recovery open ./tivset-recovery -a passphrase=@words.txt",
		Args: cli.Takes(1, 1, "FILE"), Annotations: cli.NoDryRun(),
		RunE: func(c *cobra.Command, args []string) error {
			return a.openRecovery(c.Context(), args[0], given, aside)
		},
	}
	c.Flags().BoolVar(&aside, "set-aside", false, "give records that this machine has other names")
	c.Flags().StringArrayVarP(&given, "answer", "a", nil, "passphrase=@FILE; @- reads standard input")
	return c
}

func (a *app) openRecovery(ctx context.Context, file string, options []string, aside bool) error {
	given, err := a.Given(options)
	if err != nil {
		return err
	}
	phrase := given[passphraseAnswer]
	var opened *recovery.Opened
	switch {
	case phrase != "":
		opened, err = recovery.Open(file, phrase)
	case !a.Streams.Asks():
		err = fault.New(fault.Usage, "the passphrase is missing", passphraseAnswer, "Give it with -a passphrase=@FILE.")
	default:
		opened, err = a.askToOpen(ctx, file)
	}
	if err != nil {
		return err
	}
	if err := opened.Put(a.World.Home(), aside, a.World.Now()); err != nil {
		return err
	}
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"outcome": "opened", "made_at": opened.Made, "sites": opened.Sites,
			"accounts": opened.Accounts})
	}
	a.Streams.Print("This machine goes on where the other one was on %s: %s, %s.", opened.Made.Local().Format(
		"2 January 2006, 15:04"), screen.Counted(opened.Sites, "site"), screen.Counted(len(opened.Accounts), "account"))
	a.Streams.Say("See what works: tivset check. Maintenance is this machine's own: tivset maintain on")
	return nil
}

// askToOpen asks for the passphrase until it is the right one.
func (a *app) askToOpen(ctx context.Context, file string) (opened *recovery.Opened, err error) {
	if _, err := os.Stat(file); err != nil {
		return nil, fault.New(fault.Usage, "the file cannot be read", file, "Check its name.").Wrap(err)
	}
	var ended error
	_, err = screen.NewAsker(a.Streams).Ask(ctx, wizard.Prompt{Text: "The passphrase", Unseen: true,
		Help: "With which the file was saved, small and capital letters as they are.",
		Check: func(phrase string) (string, string) {
			opened, ended = recovery.Open(file, phrase)
			if f := fault.Of(ended); ended != nil && strings.Contains(f.What, "passphrase") {
				ended = nil
				return f.What, f.Remedy
			}
			return "", ""
		}})
	if err != nil {
		return nil, fault.New(fault.NeedsConfirmation, "nothing was opened", file, "Begin again when you are ready.")
	}
	return opened, ended
}

func (a *app) recoveryStatus() *cobra.Command {
	return &cobra.Command{
		Use: "status", Short: "Show where the recovery file is, and whether it is up to date",
		Example: "  tivset recovery status\n  tivset recovery status --json", Args: cli.Takes(0, 0, ""),
		RunE: a.Using(func(context.Context, *core.Core, []string) error {
			h := a.World.Home()
			last, err := recovery.Last(h)
			if err != nil {
				return err
			}
			stale := last != nil && last.Stale(h)
			switch {
			case a.JSON && last == nil:
				return a.Streams.WriteJSON(map[string]any{"saved": false})
			case a.JSON:
				return a.Streams.WriteJSON(map[string]any{"saved": true, "file": last.File, "saved_at": last.At,
					"stale": stale})
			case last == nil:
				a.Streams.Print("There is none. To save one: tivset recovery save FILE")
			default:
				a.Streams.Print("%s, written on %s.", last.File, last.At.Local().Format("2 January 2006, 15:04"))
				if stale {
					a.Streams.Print("It is not where it was saved, or not up to date. To save it anew: " +
						"tivset recovery save FILE")
				}
			}
			return nil
		}),
	}
}
