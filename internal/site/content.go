package site

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"os"
	"path/filepath"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/app/fill"
	"tivset/internal/app/rewrite"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/records/backup"
	"tivset/internal/records/ledger"
)

// content is a backup that is to become a site, at its own place or another.
type content struct {
	*backup.Backup
	record  ledger.Site
	secrets map[string]secretText
	before  fill.Values // what its configuration holds
}

// openContent reads a backup and compares it with its checksums.
func (s *Service) openContent(ctx context.Context, name string, open backup.Opener, keys backup.Keys) (*content, error) {
	b, err := backup.Open(ctx, open, keys)
	switch {
	case errors.Is(err, backup.ErrDamaged):
		return nil, fault.New(fault.Usage, "the backup cannot be used", name, "Take another one. Nothing was touched.").Because(err)
	case errors.Is(err, backup.ErrSealed):
		return nil, fault.New(fault.Usage, "the backup is encrypted", name, "Give the key that opens it: --identity FILE. Nothing was touched.").Because(err)
	case err != nil:
		return nil, err
	}
	c := &content{Backup: b}
	if err := json.Unmarshal(b.Site, &c.record); err != nil {
		return nil, fault.New(fault.Usage, "the backup does not say what site it is of", name, "Take another one. Nothing was touched.").Because(err)
	}
	if c.secrets, err = s.Vault.Unseal(b.Secrets); err != nil {
		return nil, fault.New(fault.Usage, "the passwords in the backup belong to another vault", name, "Restore it on the machine that made it, or bring that one's vault and key here. Nothing was touched.").Because(err)
	}
	return c, nil
}

// fetched gives an opener of a backup in an account. One that is far away is
// fetched once; done drops what was fetched.
func (s *Service) fetched(ctx context.Context, a *account.Account, f files.FS, name string) (open backup.Opener, done func(), err error) {
	if a.Remote() == nil {
		return func() (io.ReadCloser, error) { return f.Open(ctx, name) }, func() {}, nil
	}
	from, err := f.Open(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	defer from.Close()
	to, err := s.temporary()
	if err != nil {
		return nil, nil, err
	}
	_, err = io.Copy(to, from)
	if err := errors.Join(err, to.Close()); err != nil {
		os.Remove(to.Name())
		return nil, nil, err
	}
	return func() (io.ReadCloser, error) { return os.Open(to.Name()) }, func() { os.Remove(to.Name()) }, nil
}

// temporary makes a file that nobody else reads.
func (s *Service) temporary() (*os.File, error) {
	folder := filepath.Join(s.Home.Cache, "backups")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	return os.CreateTemp(folder, "fetched-*")
}

// valuesOf gives what the configuration of a site holds.
func (s *Service) valuesOf(x ledger.Site, secrets map[string]secretText) (fill.Values, error) {
	p, err := s.planOf(x)
	if err != nil {
		return nil, err
	}
	p.secrets, p.password = secrets, secrets[adminPassword]
	return p.values(s.Now())
}

// answers are those that make the same site again, elsewhere.
func (c *content) answers() answer.Given {
	x := c.record
	out := answer.Given{"title": x.Title, "language": x.Language, "licence": "accept", "admin.name": x.Admin.Name, "admin.email": x.Admin.Email,
		"care.updates": x.Care.Updates, "care.backup": x.Care.Backup, "care.extensions": x.Care.Extensions, "care.themes": x.Care.Themes,
		"care.put-back": x.Care.PutBack, "care.mails": x.Care.Mails}
	for _, chosen := range x.Chosen {
		out[chosen.ID] = chosen.Answer
	}
	for name, value := range c.secrets {
		if id, asked := strings.CutPrefix(name, askedSecret("")); asked {
			out[id] = value.Reveal()
		}
	}
	maps.DeleteFunc(out, func(_, v string) bool { return v == "" })
	return out
}

// takeSecrets gives a plan the secrets of the content that it places: what is
// stored was made with them. Only the database's user is another.
func (p *Plan) takeSecrets() error {
	if p.content == nil {
		return nil
	}
	for name, value := range p.content.secrets {
		if name != dataPassword {
			p.secrets[name] = value
		}
	}
	p.password = p.secrets[adminPassword]
	if p.password.Empty() {
		return fault.New(fault.Usage, "the vault has no password of this site", p.content.record.Address, "Have a new one made first: tivset reveal "+p.content.record.Address+" --renew")
	}
	p.Admin.Generated = false
	return nil
}

// measure takes from the content what the plan says of files.
func (p *Plan) measure(c *content) {
	p.Changes.Files, p.Changes.Bytes = c.record.Files, c.record.Bytes
	p.survey.Entries = c.record.Entries
	for _, list := range []*[]string{&p.Changes.Databases, &p.Changes.Users, &p.Changes.Timers, &p.Changes.SetAside} {
		if *list == nil {
			*list = []string{}
		}
	}
}

// rewriting is the replacement of the content's address by a plan's, nil when
// they are the same.
func (s *Service) rewriting(ctx context.Context, c *content, p *Plan) (*rewrite.Address, error) {
	if c.record.URL == p.Place.URL {
		return nil, nil
	}
	sites, err := s.Ledger.Sites(ctx)
	if err != nil {
		return nil, err
	}
	var others []string
	for _, x := range sites {
		others = append(others, x.URL)
	}
	return rewrite.New(c.record.URL, p.Place.URL, others)
}

// script is the content's SQL with the plan's address in it.
func (c *content) script(ctx context.Context, p *Plan, change *rewrite.Address) io.ReadCloser {
	plain := c.Script(ctx)
	if change == nil {
		return plain
	}
	r, w := io.Pipe()
	go func() {
		wanted := func(table, column string) bool { return p.kit.Holds(bare(c.record.Database, table), column) }
		err := change.Dump(c.Engine, wanted, plain, w)
		_ = w.CloseWithError(errors.Join(err, plain.Close()))
	}()
	return r
}
