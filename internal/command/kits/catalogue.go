package kits

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/app/index"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/catalogues"
	"tivset/internal/screen"
	"tivset/internal/wizard"
)

func (a *app) catalogueGroup() *cobra.Command {
	return a.Group("catalogue", "Where kits come from", a.catalogueAdd(), a.catalogueList(), a.catalogueRefresh(),
		a.catalogueUse(), a.catalogueForget(), a.catalogueKey())
}

func (a *app) catalogueAdd() *cobra.Command {
	var key string
	c := &cobra.Command{
		Use:   "add NAME FOLDER|ADDRESS [--key KEY]",
		Short: "Add a catalogue: a folder of kits, or one that somebody publishes",
		Long: "A folder holds one folder a kit. What somebody publishes is a folder or an https address with a signed\n" +
			"index: its key is accepted once, by typing yes on a terminal, or by giving it with --key. Compare it with\n" +
			"what the publisher says elsewhere. The kits that come along with the program are the catalogue “built-in”.",
		Example: "  tivset catalogue add mine ./kits\n" +
			"  tivset catalogue add millpond https://millpond.example/kits --key RW…",
		Args: cli.Takes(1, 2, "NAME FOLDER|ADDRESS"), Annotations: cli.NoDryRun(),
		RunE: func(c *cobra.Command, args []string) error {
			adding := catalogues.Adding{Name: args[0], Key: key}
			if len(args) > 1 {
				adding.From = args[1]
			}
			if a.Streams.Asks() {
				adding.Accept = func(key string) bool {
					a.Streams.Say("%s is signed with the key %s", adding.From, key)
					return screen.NewAsker(a.Streams).Confirm(c.Context(), "Is that the one that its publisher names?")
				}
			}
			added, err := a.Keeper().Add(c.Context(), adding)
			if err != nil {
				return err
			}
			return a.showAdded(added)
		},
	}
	c.Flags().StringVar(&key, "key", "", "the publisher's key: RW…, or the name of a file that holds it")
	return c
}

func (a *app) showAdded(added *catalogues.Added) error {
	if a.JSON {
		return a.Streams.WriteJSON(struct {
			*catalogues.Added
			Faulty int `json:"faulty"`
		}{added, len(added.Faulty)})
	}
	a.faultyKits(added.Faulty)
	for _, app := range slices.Sorted(maps.Keys(added.Doubled)) {
		a.Streams.Warn("several catalogues have " + app + ": " + strings.Join(added.Doubled[app], ", ") +
			". Say once which counts, such as: tivset catalogue use " + app + " " + added.Name)
	}
	a.Streams.Print("The catalogue %s is added; kits: %d. See them with: tivset browse", added.Name, added.Kits)
	return nil
}

// faultyKits names kits with mistakes.
func (a *app) faultyKits(faulty []error) {
	for _, f := range faulty {
		a.Streams.Warn(fault.Of(f).What + ", and is left out; see them with: tivset kit check DIR")
	}
}

func (a *app) catalogueRefresh() *cobra.Command {
	return &cobra.Command{
		Use:   "refresh [NAME…]",
		Short: "Ask what published catalogues have now",
		Long: "Asks for the index, and takes it when its signature holds and it is no older than the one before. It is\n" +
			"asked for once a day by itself, when something is browsed, installed or updated.",
		Example: "  tivset catalogue refresh\n  tivset catalogue refresh millpond", Annotations: cli.NoDryRun(),
		ValidArgsFunction: cli.Only(a.catalogueWords),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				list, err := a.World.Home().Catalogues()
				if err != nil {
					return err
				}
				if args = catalogues.Published(list); len(args) == 0 {
					a.Streams.Say("No catalogue here is published by somebody: there is nothing to refresh.")
				}
			}
			return a.Each(c.Context(), args, func(name string) (any, error) {
				news, err := a.Keeper().Refresh(c.Context(), name)
				if err == nil && !a.JSON {
					a.Streams.CatalogueNews(name, news.News)
				}
				return news, err
			})
		},
	}
}

func (a *app) catalogueWords(context.Context) []string {
	list, err := a.World.Home().Catalogues()
	if err != nil {
		return nil
	}
	return list.Names()
}

func (a *app) catalogueUse() *cobra.Command {
	return &cobra.Command{
		Use:   "use APP NAME",
		Short: "Decide whose kit counts for an app that several catalogues have",
		Example: "  tivset catalogue use willowbench millpond\n" +
			"  tivset catalogue use willowbench built-in",
		Args:              cli.Takes(2, 2, "APP NAME"),
		Annotations:       cli.NoDryRun(),
		ValidArgsFunction: cli.Only(a.AppWords),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.Keeper().Use(c.Context(), args[0], args[1]); err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(map[string]string{"app": args[0], "catalogue": args[1]})
			}
			a.Streams.Print("For %s the kit of %s counts from now on, for sites that are there too.", args[0], args[1])
			return nil
		},
	}
}

func (a *app) catalogueList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "Show the catalogues", Args: cli.Takes(0, 0, ""),
		Example: "  tivset catalogue list\n  tivset catalogue list --json",
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := a.Keeper().List(c.Context())
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(all)
			}
			var rows [][]string
			for _, x := range all {
				rows = append(rows, []string{x.Name, x.Kind, strconv.Itoa(x.Kits), screen.CatalogueState(x), x.From})
			}
			a.Streams.Table([]string{"Name", "Kind", "Kits", "State", "Where"}, rows)
			return nil
		},
	}
}

func (a *app) catalogueForget() *cobra.Command {
	return &cobra.Command{
		Use:   "forget NAME",
		Short: "Do without a catalogue",
		Long: "Drops a catalogue from the list. Its folder or address is left alone. Sites of its apps cannot be\n" +
			"looked after without it: where there are some, that is asked first.",
		Example:           "  tivset catalogue forget millpond\n  tivset catalogue forget millpond --yes",
		Args:              cli.Takes(1, 1, "NAME"),
		Annotations:       cli.NoDryRun(),
		ValidArgsFunction: cli.Only(a.catalogueWords),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			sites, err := s.Book.Ledger.Sites(ctx)
			if err != nil {
				return err
			}
			needed, err := a.Keeper().Needed(ctx, args[0], sites)
			if err != nil {
				return err
			}
			if len(needed) > 0 {
				text := "  Without the catalogue " + args[0] + " these sites cannot be looked after:\n    " +
					strings.Join(needed, "\n    ")
				if err := a.AgreeFinally(ctx, text, "Forget it?"); err != nil {
					return err
				}
			}
			if err := a.Keeper().Forget(args[0]); err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(map[string]any{"name": args[0], "forgotten": true, "sites_without": needed})
			}
			a.Streams.Print("The catalogue %s is forgotten.", args[0])
			return nil
		}),
	}
}

func (a *app) catalogueKey() *cobra.Command {
	var passphrase string
	c := &cobra.Command{
		Use:   "key FILE",
		Short: "Make a key to sign catalogues with",
		Long: "Writes the secret key into FILE, locked with a passphrase, and the public one into FILE.pub: that is what\n" +
			"owners are given. The form is minisign's. Keep a copy of FILE and the passphrase in a safe place: without\n" +
			"them no owner takes a newer edition of the catalogue.",
		Example:     "  tivset catalogue key millpond.key\n  tivset catalogue key millpond.key --json",
		Args:        cli.Takes(1, 1, "FILE"),
		Annotations: cli.NoDryRun(),
		RunE: func(c *cobra.Command, args []string) error {
			word, err := a.passphrase(c.Context(), passphrase, true)
			if err != nil {
				return err
			}
			locked, public, err := index.NewKey(word)
			if err != nil {
				return err
			}
			for name, text := range map[string][]byte{args[0]: locked, args[0] + ".pub": public} {
				if err := writeNew(name, text); err != nil {
					return err
				}
			}
			key, err := index.ParseKey(string(public))
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(
					map[string]string{"secret": args[0], "public": args[0] + ".pub", "key": key.String()},
				)
			}
			a.Streams.Print("The secret key is in %s, the public one in %s.pub: %s", args[0], args[0], key.String())
			return nil
		},
	}
	c.Flags().StringVar(&passphrase, "passphrase-file", "", "a file that holds the passphrase; - for standard input")
	return c
}

// writeNew writes a file that must not be there yet, readable to its owner only.
func writeNew(name string, text []byte) error {
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return fault.New(fault.Usage, "there is a file already", name,
			"Take another name: a key that is lost cannot be made again.")
	}
	if err != nil {
		return err
	}
	_, err = file.Write(append(text, '\n'))
	return errors.Join(err, file.Close())
}

// leastPassphrase is how many characters a passphrase has at least.
const leastPassphrase = 8

// passphrase reads a passphrase from a file, or unseen from the terminal: twice for a new
// one.
func (a *app) passphrase(ctx context.Context, file string, anew bool) (string, error) {
	if file != "" {
		text, err := a.ReadFile(file)
		if err != nil {
			return "", err
		}
		word := strings.TrimRight(string(text), "\r\n")
		if anew && len(word) < leastPassphrase {
			return "", fault.New(fault.Usage, "the passphrase is too short", file, fmt.Sprintf("Take at least %d characters.",
				leastPassphrase))
		}
		return word, nil
	}
	if !a.Streams.Asks() {
		return "", fault.New(fault.NeedsConfirmation, "the key's passphrase is needed", "",
			"Give it with --passphrase-file FILE.")
	}
	ask := screen.NewAsker(a.Streams)
	first := wizard.Prompt{Text: "Passphrase", Unseen: true, Help: "It locks the secret key.",
		Check: func(word string) (string, string) {
			if anew && len(word) < leastPassphrase {
				return "that is too short", fmt.Sprintf("Take at least %d characters.", leastPassphrase)
			}
			return "", ""
		}}
	word, err := ask.Ask(ctx, first)
	if err != nil || !anew {
		return word, err
	}
	_, err = ask.Ask(ctx, wizard.Prompt{Text: "Once more", Unseen: true, Check: func(again string) (string, string) {
		if again != word {
			return "that is another one", "Type the same passphrase."
		}
		return "", ""
	}})
	return word, err
}
