package command

import (
	"context"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"tivset/internal/core"
	"tivset/internal/records/ledger"
	"tivset/internal/step"
	"tivset/internal/work"
	"tivset/internal/work/backup"
	"tivset/internal/work/restore"
)

type backedUpJSON struct {
	Outcome   string      `json:"outcome"`
	Site      ledger.Site `json:"site"`
	File      string      `json:"file"`
	Here      bool        `json:"here"` // on this machine, not in the account
	MadeAt    time.Time   `json:"made_at"`
	Files     int         `json:"files"`
	DataBytes int64       `json:"data_bytes"`
	Bytes     int64       `json:"bytes"` // of the backup itself
	SHA256    string      `json:"sha256"`
	Encrypted bool        `json:"encrypted"`
	Warnings  []string    `json:"warnings"`
	Dropped   []string    `json:"dropped"`
}

func newBackedUpJSON(b *step.BackedUp) *backedUpJSON {
	if b == nil {
		return nil
	}
	return &backedUpJSON{"backed up", b.Site, b.File, b.Here, b.MadeAt, b.Files, b.Data, b.Packed, b.SHA256, b.Encrypted,
		list(b.Warnings), list(b.Dropped)}
}

// list is never null in JSON.
func list(names []string) []string {
	if names == nil {
		return []string{}
	}
	return names
}

func (a *app) backup() *cobra.Command {
	r, show := &backup.Request{}, false
	c := &cobra.Command{
		Use:   "backup SITE [--into FOLDER] [flags]",
		Short: "Keep a site's files and database together",
		Long: "Writes the files and the database of a site, of one moment, into one archive (tar, Zstandard)\n" +
			"with checksums, in the account's store or in a folder here, and reads it again. With --to only\n" +
			"the owner of that key (age) can open it. With --keep older ones are dropped, but for the newest\n" +
			"of as many days, weeks and months.",
		Example: "  tivset backup lockside.localhost/forum\n  tivset backup forum --into ~/backups --keep 7d,4w,6m\n  " +
			"tivset backup forum --list",
		Args: takes(1, 1, "SITE"), Annotations: noDryRun(), ValidArgsFunction: only(a.siteWords),
		RunE: a.using(func(ctx context.Context, s *core.Core, args []string) error {
			r.Site = args[0]
			if show {
				return a.listBackups(ctx, s, r)
			}
			made, err := backup.Make(ctx, s.Desk, *r)
			a.streams.Say("")
			if err != nil {
				return err
			}
			if a.json {
				return a.streams.WriteJSON(newBackedUpJSON(made))
			}
			a.streams.BackedUp(made)
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&r.Into, "into", "", "a folder here (the account's store when left out)")
	f.StringArrayVar(&r.To, "to", nil, "encrypt it to this public key of age (age1…)")
	f.StringVar(&r.Keep, "keep", "", "which ones to keep, such as 7d,4w,6m")
	f.BoolVar(&show, "list", false, "list the backups that there are")
	return c
}

func (a *app) listBackups(ctx context.Context, s *core.Core, r *backup.Request) error {
	all, err := backup.List(ctx, s.Desk, r.Site, r.Into)
	if err != nil {
		return err
	}
	if a.json {
		return a.streams.WriteJSON(all)
	}
	if len(all) == 0 {
		a.streams.Say("There is no backup yet. Make one with: tivset backup %s", r.Site)
		return nil
	}
	var rows [][]string
	for _, l := range all {
		rows = append(rows, []string{l.MadeAt.Format("2006-01-02 15:04:05"), humanize.Bytes(uint64(l.Bytes)),
			map[bool]string{true: "encrypted", false: "-"}[l.Encrypted], l.File})
	}
	a.streams.Table([]string{"Made", "Size", "Key", "File"}, rows)
	return nil
}

func (a *app) restore() *cobra.Command {
	r, answers := &restore.Request{}, []string{}
	c := &cobra.Command{
		Use:   "restore SITE [--from BACKUP] [flags]",
		Short: "Bring a site's files and database back",
		Long: "Brings back what a backup holds: to where the site is, in place of what is there now, which is\n" +
			"backed up first; or to an address where nothing is. The whole backup is compared with its\n" +
			"checksums before anything is touched, and the site is checked as after an install.",
		Example: "  tivset restore forum\n  tivset restore forum --from 20261123-074500.tar.zst\n  tivset restore " +
			"lockside.localhost/forum --from ~/backups/forum.tar.zst",
		Args: takes(1, 1, "SITE"), Annotations: noDryRun(), ValidArgsFunction: only(a.siteWords),
		RunE: a.using(func(ctx context.Context, s *core.Core, args []string) error {
			var err error
			r.Site, r.Account = args[0], a.account
			if r.Answers, err = a.given(answers); err != nil {
				return err
			}
			if found, err := s.Book.Find(ctx, r.Site); err == nil {
				text := fmt.Sprintf("  This puts a backup in the place of “%s” (%s).", found.Title, found.URL)
				if !r.NoBackup {
					text += " What is there now is backed up first."
				}
				text += " Visitors see a notice meanwhile, for " +
					work.About(work.ClosedFor(found, !r.NoBackup, true, !r.NoBackup)) + "."
				if err := a.agreeFinally(ctx, text, "Restore?"); err != nil {
					return err
				}
			}
			done, err := restore.Restore(ctx, s.Desk, *r)
			a.streams.Say("")
			if err != nil {
				return err
			}
			if a.json {
				return a.streams.WriteJSON(changedJSON{outcome("restored", &done.Done), done.From, "", "",
					newBackedUpJSON(done.Backup)})
			}
			a.streams.Settled(done.Site.Title+" is back and checked, release "+done.Site.Release+".", &done.Done,
				before(done.Backup)...)
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&r.From, "from", "",
		"the backup: a name in the account's store, or a file here (the newest when left out)")
	f.StringArrayVarP(&answers, "answer", "a", nil,
		"an answer for a place where nothing is, id=value, such as occupied or data.server")
	f.StringVar(&r.Identity, "identity", "", "a file with the key of age that opens the backup")
	f.BoolVar(&r.NotOurs, "not-ours", false, "take a backup that this machine did not make, or that was changed since")
	f.BoolVar(&r.NoBackup, "no-backup", false, "do not back up what is there now")
	return c
}
