package restore

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"

	"tivset/internal/app/archive"
	"tivset/internal/app/config"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	format "tivset/internal/records/backup"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/work"
	"tivset/internal/work/place"
)

// mostOfConfig is up to how many bytes of a configuration file are read.
const mostOfConfig = 1 << 20

// length is how long the admin's new password is, in characters.
const length = 20

// foreign finds the secrets of a backup whose own are sealed with the key of another vault: what its configuration
// shows, and a new password of its admin, which the app is told.
func foreign(ctx context.Context, d *work.Service, c *place.Content, name string) error {
	k, err := d.Book.Catalogue.Find(c.Record.App)
	if err != nil {
		return err
	}
	if k.AccountElsewhere() || len(k.Renew) == 0 || kit.ByForms(k.Renew) {
		return fault.New(fault.Usage, "the passwords in the backup belong to another vault, and "+k.Title+
			" cannot be given a new one of its admin before it answers", name,
			"Open the recovery file of the machine that made it: "+fault.Call("recovery", "open", "FILE")+
				". Nothing was touched.")
	}
	c.Foreign, c.Secrets = true, map[string]secret.Text{}
	wanted := map[string]kit.Config{}
	for _, f := range k.Config {
		if len(f.Constant) == 0 {
			wanted[path.Clean(f.Path)] = f
		}
	}
	err = c.Backup.Part(format.Files)(ctx, func(e archive.Entry, content io.Reader) error {
		f, is := wanted[e.Name]
		if !is || e.Dir {
			return nil
		}
		text, err := io.ReadAll(io.LimitReader(content, mostOfConfig))
		if err != nil {
			return err
		}
		template, err := fs.ReadFile(k.Files(), f.Template)
		if err != nil {
			return err
		}
		for name, value := range config.Read(f.Format, string(template), string(text)) {
			if name == site.DataPassword || slices.Contains(k.VaultNames(), name) {
				c.Secrets[name] = secret.Of(value)
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("read the configuration in the backup: %w", err)
	}
	c.Secrets[site.AdminPassword], err = d.Maker.Password(length, secret.Alnum)
	return err
}
