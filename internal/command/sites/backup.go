package sites

import (
	"context"
	"os"
	"path"
	"strconv"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/step"
	"tivset/internal/work/backup"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
	"tivset/internal/work/restore"
)

func (a *app) backup() *cobra.Command {
	r, show, drop, o := &backup.Request{}, false, []string(nil), &cli.Selection{}
	var unless time.Duration
	c := &cobra.Command{
		Use:   "backup SITE… [--into FOLDER] [options]",
		Short: "Keep a site's files and database together",
		Long: "Writes the files and the database of a site, of one moment, into one archive (tar, Zstandard)\n" +
			"with checksums, in Tivset's folder in the account or in one here, and reads it again. With --encrypt-to only\n" +
			"the owner of that key (age) can open it. With --keep older ones are deleted, but for the newest\n" +
			"of as many days, weeks and months. --list tells why each was made; without a site it lists all,\n" +
			"those of removed sites too.",
		Example: "  tivset backup lockside.localhost/forum\n  tivset backup forum --into ~/backups --keep 7d,4w,6m\n  " +
			"tivset backup --list\n  tivset backup forum --delete 20261123-074500.tar.zst",
		Annotations: cli.NoDryRun(), ValidArgsFunction: a.AllSiteWords,
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			if err := cli.NotBoth("--list", show, "--delete", len(drop) > 0); err != nil {
				return err
			}
			if len(args) > 0 {
				r.Site = args[0]
			}
			switch {
			case len(args) > 1 && (show || len(drop) > 0):
				return fault.New(fault.Usage, "“"+args[1]+"” is too much", "", "Backups are listed and deleted of one site.")
			case show:
				return a.listBackups(ctx, s, r)
			case len(drop) > 0 && len(args) > 0:
				return a.dropBackups(ctx, s, r, drop)
			}
			if unless > 0 {
				rest, err := a.unlessSince(ctx, s, args, o, unless)
				if err != nil || len(rest) == 0 {
					return err
				}
				args = rest
			}
			return a.backUp(ctx, s, args, o, r)
		}),
	}
	cli.Chooses(c, o, "into", "keep")
	c.Flags().DurationVar(&unless, "unless-since", 0, "leave out sites that have a backup since then, such as 12h")
	return a.backupFlags(c, r, &show, &drop)
}

// unlessSince leaves out sites that have a backup since a while ago: what is left of many that was interrupted.
func (a *app) unlessSince(ctx context.Context, s *core.Core, words []string, o *cli.Selection, since time.Duration) (
	[]string, error) {
	if o.Table != "" {
		return nil, fault.New(fault.Usage, "a table says itself what is done with which site", "--unless-since",
			"Leave one of the two out.")
	}
	rows, err := a.Rows(ctx, s, words, o)
	if err != nil {
		return nil, err
	}
	all, err := batch.Sites(ctx, s.Book, cli.Named(rows), a.Account)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, x := range all {
		if x.LastBackupAt == nil || a.World.Now().Sub(*x.LastBackupAt) >= since {
			out = append(out, x.Address)
		}
	}
	o.All, o.Where = false, nil
	if left := len(all) - len(out); left > 0 {
		a.Streams.Say("%s a backup since then already.", map[bool]string{true: "1 site has",
			false: strconv.Itoa(left) + " sites have"}[left == 1])
	}
	if len(out) == 0 && a.JSON {
		return nil, a.Streams.WriteJSON([]any{})
	}
	return out, nil
}

// backUp backs sites up.
func (a *app) backUp(ctx context.Context, s *core.Core, args []string, o *cli.Selection, r *backup.Request) error {
	b, err := a.Asked(ctx, s, args, o, func(row *batch.Row) batch.Request {
		one := *r
		one.Site, one.Into, one.Keep = row.Site, row.Value("into", r.Into), row.Value("keep", r.Keep)
		return &requests.Backup{Request: one}
	})
	if err != nil {
		return err
	}
	return a.Carry(ctx, s, b, o, nil)
}

// backupFlags are the options of backup that are of no selection.
func (a *app) backupFlags(c *cobra.Command, r *backup.Request, show *bool, drop *[]string) *cobra.Command {
	f := c.Flags()
	f.StringVar(&r.Into, "into", "", "a folder here (Tivset's folder in the account when left out)")
	f.StringArrayVar(&r.To, "encrypt-to", nil, "encrypt it to this public key of age (age1…)")
	f.StringVar(&r.Keep, "keep", "", "which ones to keep, such as 7d,4w,6m")
	f.BoolVar(show, "list", false, "list the backups that there are")
	f.StringArrayVar(drop, "delete", nil, "delete this backup, as it is listed")
	return c
}

// listedJSON is a backup of a list.
type listedJSON struct {
	backup.Listed
	Here bool `json:"here,omitempty"` // on this machine
}

func (a *app) listBackups(ctx context.Context, s *core.Core, r *backup.Request) error {
	var all []backup.Listed
	var unseen []error
	var err error
	if r.Site == "" {
		all, unseen, err = backup.Every(ctx, s.Desk, a.Account)
	} else {
		all, err = backup.List(ctx, s.Desk, r.Site, a.Account, r.Into)
	}
	if err != nil {
		return err
	}
	if len(all) == 0 && len(unseen) > 0 {
		return unseen[0] // that there is none is not known
	}
	for _, why := range unseen {
		a.Streams.Note("an account could not be looked at: " + why.Error())
	}
	switch {
	case a.JSON:
		out := []listedJSON{}
		for _, l := range all {
			out = append(out, listedJSON{l, l.Depot == step.Here})
		}
		return a.Streams.WriteJSON(out)
	case len(all) == 0 && r.Site == "":
		a.Streams.Say("There is no backup yet. Make one with: tivset backup SITE")
	case len(all) == 0:
		a.Streams.Say("There is no backup yet. Make one with: tivset backup %s", r.Site)
	default:
		a.Streams.Backups(all)
	}
	return nil
}

func (a *app) dropBackups(ctx context.Context, s *core.Core, r *backup.Request, names []string) error {
	chosen, err := backup.Named(ctx, s.Desk, r.Site, a.Account, r.Into, names)
	if err != nil {
		return err
	}
	text := "  This deletes for good:"
	for _, l := range chosen {
		text += "\n    " + l.File
	}
	if err := a.AgreeFinally(ctx, text, "Delete?"); err != nil {
		return err
	}
	gone, err := backup.Drop(ctx, s.Desk, r.Site, a.Account, r.Into, names)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"outcome": "deleted", "backups": gone})
	}
	for _, l := range gone {
		a.Streams.Print("Deleted: %s", l.File)
	}
	return nil
}

// listFiles lists what a backup has.
func (a *app) listFiles(ctx context.Context, s *core.Core, r restore.Request) error {
	from, all, err := restore.Files(ctx, s.Desk, r)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"backup": from, "files": all})
	}
	var rows [][]string
	for _, f := range all {
		rows = append(rows, []string{f.Name, humanize.Bytes(uint64(f.Bytes))})
	}
	a.Streams.Table([]string{"File", "Size"}, rows)
	a.Streams.Say("\nThey are in %s. To have one back: tivset restore %s --from %s --file FILE", from, r.Site,
		path.Base(from))
	return nil
}

func (a *app) restore() *cobra.Command {
	r, answers, list, o := &restore.Request{}, []string{}, false, &cli.Selection{}
	domains := []string{}
	c := &cobra.Command{
		Use:   "restore SITE… [--from BACKUP] [options]",
		Short: "Bring a site's files and database back",
		Long: "Brings back what a backup holds: to where the site is, in place of what is there now, which is\n" +
			"backed up first; or to an address where nothing is. The whole backup is compared with its\n" +
			"checksums before anything is touched, and the site is checked as after an install. With --file only\n" +
			"some of its files come back, or folders; --list-files tells which it has. Of several sites each comes back\n" +
			"from its newest, or from the one that a table names. When a host died, --into-account brings its sites to\n" +
			"another account, each to its address there: that of its domain, or of the one that --domain names for it.",
		Example: "  tivset restore forum\n  tivset restore forum --from 20261123-074500.tar.zst\n  tivset restore " +
			"lockside.localhost/forum --from ~/backups/forum.tar.zst\n" +
			"  tivset restore forum --list-files\n  tivset restore forum --file uploads/top-gate.jpg\n" +
			"  tivset restore --where health=gone\n  tivset restore --account spindle --table lost.csv\n" +
			"  tivset restore --all --account quillmere --from ~/backups --into-account spindle " +
			"--domain lockside.localhost=chandlery.localhost",
		ValidArgsFunction: a.AllSiteWords,
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			var err error
			r.Account = a.Account
			if len(args) == 1 {
				r.Site = args[0]
			}
			one := len(args) == 1 && o.Table == "" && len(o.Where) == 0 && !o.All
			info, noFile := os.Stat(r.From)
			folder := noFile == nil && info.IsDir()
			if !one && (list || r.From != "" && !folder || len(r.Files) > 0) {
				return fault.New(fault.Usage, "--from FILE, --file and --list-files are of one site", "",
					"Name one; or say with a table, in a column from, which backup each comes back from; or name the folder of "+
						"all with --from.")
			}
			if r.Into == "" && len(domains) > 0 {
				return fault.New(fault.Usage, "--domain goes with --into-account", domains[0], "Say into which account they come.")
			}
			if r.Answers, err = a.Given(answers); err != nil {
				return err
			}
			r.Files = cli.NamesOf(r.Files)
			if list {
				return a.listFiles(ctx, s, *r)
			}
			if r.Into != "" {
				return a.restoreInto(ctx, s, r, args, o, domains)
			}
			if one {
				return a.Carry(ctx, s, batch.Of(&requests.Restore{Request: *r}), &cli.Selection{AtOnce: 1}, nil)
			}
			b, err := a.Asked(ctx, s, args, o, func(row *batch.Row) batch.Request {
				each := *r
				each.Site, each.From = row.Site, row.Value("from", r.From)
				return &requests.Restore{Request: each}
			})
			if err != nil {
				return err
			}
			return a.Carry(ctx, s, b, o, nil)
		}),
	}
	cli.Chooses(c, o, "from")
	f := c.Flags()
	f.StringVar(&r.From, "from", "",
		"the backup: a name in Tivset's folder in the account, or a file or a folder here (left out, or a folder: the "+
			"newest that was not made before a restore, a repair or an undo)")
	f.StringVar(&r.Into, "into-account", "", "the account that they come back into, in the place of the one they are in")
	f.StringArrayVar(&domains, "domain", nil, "with --into-account: OLD=NEW, the domain there of those of a domain")
	f.StringArrayVarP(&answers, "answer", "a", nil,
		"an answer for a place where nothing is, id=value, such as occupied or data.server")
	f.StringArrayVar(&r.Files, "file", nil, "only this file or folder of it, from the site's folder")
	f.BoolVar(&list, "list-files", false, "list the files that the backup has, and restore nothing")
	f.StringVar(&r.Identity, "identity", "", "a file with the key of age that opens the backup")
	f.BoolVar(&r.NotOurs, "not-ours", false, "take a backup that this machine did not make, or that was changed since")
	f.BoolVar(&r.NoBackup, "no-backup", false, "do not back up what is there now")
	return c
}
