package kits

import (
	"context"
	"os"
	"time"

	"github.com/spf13/cobra"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/index"
	"tivset/internal/app/kit"
	"tivset/internal/command/cli"
	"tivset/internal/fault"
)

type packing struct {
	into, key, passphrase string
	days                  int
	without               []string
}

func (a *app) kitPack() *cobra.Command {
	p := packing{}
	c := &cobra.Command{
		Use:   "pack DIR… --into FOLDER --key FILE",
		Short: "Publish kits: pack them into a folder, and sign its index",
		Long: "Packs each kit into one file, with a version that goes up when the kit changed, and signs the folder's\n" +
			"index anew. Kits that are there and not named stay as they are. Serve the folder over https, or hand it on\n" +
			"as it is: owners add it as a catalogue.",
		Example: "  tivset kit pack ./willowbench ./slateroom --into ./shelf --key millpond.key\n" +
			"  tivset kit pack --into ./shelf --key millpond.key --without slateroom",
		Annotations: cli.NoDryRun(),
		RunE:        func(c *cobra.Command, args []string) error { return a.runPack(c.Context(), args, p) },
	}
	f := c.Flags()
	f.StringVar(&p.into, "into", "", "the catalogue's folder")
	f.StringVar(&p.key, "key", "", "the secret key's file, made with: tivset catalogue key")
	f.StringVar(&p.passphrase, "passphrase-file", "", "a file that holds the key's passphrase; - for standard input")
	f.IntVar(&p.days, "days", 90, "for how many days the index is valid: sign it anew before")
	f.StringArrayVar(&p.without, "without", nil, "an app whose kit leaves the catalogue")
	return c
}

func (a *app) runPack(ctx context.Context, dirs []string, p packing) error {
	switch {
	case p.into == "":
		return fault.New(fault.Usage, "the catalogue's folder is missing", "--into", "Write: --into FOLDER")
	case p.key == "":
		return fault.New(fault.Usage, "the key is missing", "--key",
			"Write --key FILE; make one with: tivset catalogue key FILE")
	case p.days < 1 || p.days > 3650:
		return fault.New(fault.Usage, "an index is valid for 1 to 3650 days", "--days", "Take 90, say.")
	}
	doing := index.Publishing{Folder: p.into, Without: p.without, Now: a.World.Now(),
		Valid: time.Duration(p.days) * 24 * time.Hour}
	for _, dir := range dirs {
		k, err := kit.Read(catalogue.Folder("", dir).Files, dir)
		if err != nil {
			return err
		}
		doing.Kits = append(doing.Kits, k)
	}
	locked, err := os.ReadFile(p.key)
	if err != nil {
		return fault.New(fault.Usage, "the key cannot be read", p.key, "Name the file that tivset catalogue key wrote.").
			Wrap(err)
	}
	word, err := a.passphrase(ctx, p.passphrase, false)
	if err != nil {
		return err
	}
	if doing.Key, err = index.OpenKey(locked, word); err != nil {
		return fault.New(fault.Usage, "the key cannot be unlocked", p.key,
			"See that it is the secret key, and that the passphrase is the right one.").Wrap(err)
	}
	done, err := index.Publish(doing)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"folder": p.into, "serial": done.Serial, "expires": done.Expires,
			"kits": len(done.Kits), "changed": append([]string{}, done.Changed...), "key": doing.Public()})
	}
	for _, app := range done.Changed {
		a.Streams.Print("%s is in it as version %d.", done.Kits[app].Title, done.Kits[app].Version)
	}
	a.Streams.Print("The catalogue in %s is signed: number %d, kits: %d, valid until %s.", p.into, done.Serial,
		len(done.Kits), done.Expires.Format(time.DateOnly))
	a.Streams.Say("Its owners' key: %s", doing.Public())
	return nil
}
