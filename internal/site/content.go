package site

import (
	"context"
	"errors"
	"io"
	"maps"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/app/rewrite"
	"tivset/internal/records/backup"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
)

// Carried is a site that is to be at another place, or at its own again: what
// is recorded of it, its secrets, and what its configuration holds. Its files
// and data come in a backup.
type Carried struct {
	Record  ledger.Site
	Secrets map[string]secret.Text
	Before  fill.Values
	Foreign bool         // another vault has its secrets: those of its configuration are known, the admin's is made anew
	Instead *ledger.Site // the record of the same address in an account that is given up, or nil: it takes its place
	Anew    []string     // secrets that it gets anew: a second site is not to have the first one's keys
}

// Answers are those that make the same site again, elsewhere.
func (c *Carried) Answers() answer.Given {
	x := c.Record
	out := answer.Given{"title": x.Title, "language": x.Language, "licence": "accept",
		answer.AdminName: x.Admin.Name, answer.AdminEmail: x.Admin.Email}
	maps.Copy(out, x.Care.Answers())
	for _, chosen := range x.Chosen {
		out[chosen.ID] = chosen.Answer
	}
	for name, value := range c.Secrets {
		if id, asked := strings.CutPrefix(name, AskedSecret("")); asked {
			out[id] = value.Reveal()
		}
	}
	maps.DeleteFunc(out, func(_, v string) bool { return v == "" })
	return out
}

// Rewriting is the replacement of what changes with the place of the carried
// site, when it is to be another: its address, its folders on the server, the
// prefix of its tables. Those of other recorded sites stay.
func (b *Book) Rewriting(ctx context.Context, c *Carried, to *Site) (*rewrite.Address, error) {
	sites, err := b.Ledger.Sites(ctx)
	if err != nil {
		return nil, err
	}
	was, err := b.Was(c.Record)
	if err != nil {
		return nil, err
	}
	var others, folders []string
	for _, x := range sites {
		others = append(others, x.URL)
		if x.Account == c.Record.Account {
			folders = append(folders, was.serverPath(x.Folder))
		}
	}
	change, err := rewrite.New(c.Record.URL, to.Place.URL, others)
	if err != nil {
		return nil, err
	}
	change.Folder(was.serverPath(was.Place.DataFolder), to.serverPath(to.Place.DataFolder), nil)
	change.Folder(was.serverPath(was.Place.Folder), to.serverPath(to.Place.Folder), folders)
	if was.Data != nil && to.Data != nil {
		change.Tables(was.Data.Tables, to.Data.Tables)
	}
	return change, nil
}

// FromStage is the replacement of what an app has kept of the stage in which it was
// set up: its address there, and its folder.
func (s *Site) FromStage(base, folder string) (*rewrite.Address, error) {
	change, err := rewrite.New(base, s.Place.URL, nil)
	if err != nil {
		return nil, err
	}
	change.Folder(s.serverPath(folder), s.serverPath(s.Place.Folder), nil)
	return change, nil
}

// Script is the SQL of a backup of the carried site, with what changes with the
// place replaced where the kit says that it is stored. Left is told what the kit
// keeps from that, by table.
func (c *Carried) Script(ctx context.Context, from *backup.Backup, k *kit.Kit, change *rewrite.Address,
	left func(map[string]int)) io.ReadCloser {
	return c.Rewritten(from.Script(ctx), from.Engine, k, change, left)
}

// Rewritten does the same with a dump of the carried site's database.
func (c *Carried) Rewritten(plain io.ReadCloser, engine string, k *kit.Kit, change *rewrite.Address,
	left func(map[string]int)) io.ReadCloser {
	if !change.Changes() {
		return plain
	}
	r, w := io.Pipe()
	go func() {
		wanted := func(table, column string) bool { return k.Holds(bareTable(c.Record.Database, table), column) }
		rows, err := change.Dump(engine, wanted, plain, w)
		if left != nil {
			left(rows)
		}
		_ = w.CloseWithError(errors.Join(err, plain.Close()))
	}()
	return r
}

// TakesPlace says whether what is carried takes the place of a record of the same address in another account than the
// one in which it comes to be.
func (c *Carried) TakesPlace(address, account string) bool {
	return c != nil && c.Instead != nil && c.Instead.Address == address && c.Instead.Account != account
}
