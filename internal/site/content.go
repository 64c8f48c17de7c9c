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
}

// Answers are those that make the same site again, elsewhere.
func (c *Carried) Answers() answer.Given {
	x := c.Record
	out := answer.Given{"title": x.Title, "language": x.Language, "licence": "accept",
		"admin.name": x.Admin.Name, "admin.email": x.Admin.Email,
		"care.updates": x.Care.Updates, "care.backup": x.Care.Backup, "care.extensions": x.Care.Extensions,
		"care.themes": x.Care.Themes, "care.put-back": x.Care.PutBack, "care.mails": x.Care.Mails}
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

// Rewriting is the replacement of the carried site's address by another; nil
// when they are the same. Addresses of other recorded sites stay.
func (b *Book) Rewriting(ctx context.Context, c *Carried, to string) (*rewrite.Address, error) {
	if c.Record.URL == to {
		return nil, nil
	}
	sites, err := b.Ledger.Sites(ctx)
	if err != nil {
		return nil, err
	}
	var others []string
	for _, x := range sites {
		others = append(others, x.URL)
	}
	return rewrite.New(c.Record.URL, to, others)
}

// Script is the SQL of a backup of the carried site, with its address replaced
// where the kit says that it is stored.
func (c *Carried) Script(ctx context.Context, from *backup.Backup, k *kit.Kit, change *rewrite.Address) io.ReadCloser {
	return c.Rewritten(from.Script(ctx), from.Engine, k, change)
}

// Rewritten is a dump of the carried site's database, with its address replaced
// where the kit says that it is stored.
func (c *Carried) Rewritten(plain io.ReadCloser, engine string, k *kit.Kit, change *rewrite.Address) io.ReadCloser {
	if change == nil {
		return plain
	}
	r, w := io.Pipe()
	go func() {
		wanted := func(table, column string) bool { return k.Holds(bareTable(c.Record.Database, table), column) }
		err := change.Dump(engine, wanted, plain, w)
		_ = w.CloseWithError(errors.Join(err, plain.Close()))
	}()
	return r
}
