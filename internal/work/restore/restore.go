// Package restore is the way of a backup back: to where the site is, or to a
// place where nothing is.
package restore

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"time"

	"slices"
	"tivset/internal/answer"
	"tivset/internal/app/fill"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	format "tivset/internal/records/backup"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/step"
	"tivset/internal/work"
	"tivset/internal/work/backup"
	"tivset/internal/work/place"
)

// Way is this way's line in the table.
func Way() work.Operation {
	return work.Operation{Name: "restore", Past: "restored",
		Again: work.AgainWith(func(ctx context.Context, d *work.Service, r Request) error {
			_, err := Restore(ctx, d, r)
			return err
		})}
}

// Request is a backup that somebody wants back.
type Request struct {
	Site     string       // a site, or an address where nothing is
	From     string       // a backup's name in the account's store, or a file here; "" for the newest
	Account  string       // for an address where nothing is
	Identity string       // a file here with age's keys
	NoBackup bool         // do not back up what is there first
	Files    []string     // only these files and folders of it, from the site's folder; nil for all of it
	NotOurs  bool         // take a backup that this machine's vault did not make, or that was changed
	Answers  answer.Given // for an address where nothing is
	Into     string       // the account that a recorded site comes back into, in the place of the one that it is in
	At       string       // with Into: its address there; "" for the one that it has
}

// Done is what came of it.
type Done struct {
	work.Done
	From   string
	Files  []string       // that came back; nil where all did
	Backup *step.BackedUp // of what was there before; nil where none was made
}

// asked is a request with the keys that open the backup.
type asked struct {
	Request
	keys format.Keys
}

// Plan is a restore that was looked at and not begun.
type Plan struct {
	Site   *ledger.Site `json:"site,omitempty"` // what is there now; nil at an empty place
	From   string       `json:"from_backup"`    // the backup
	MadeAt time.Time    `json:"made_at"`        // when it was made
	Why    string       `json:"why,omitempty"`  // why, where its name says that
	To     string       `json:"to,omitempty"`   // before an update: the release that it was to be
	Files  []string     `json:"files"`          // of it that come back; empty where all does
	Of     ledger.Site  `json:"of"`             // the site that it is of, as it was
	Keeps  bool         `json:"backup"`         // what is there now is backed up first
	Closed int          `json:"closed_seconds"` // for about how long visitors see a notice

	held  *work.Held
	asked asked
	open  *opened
}

// Close lets go of the account and of what was fetched.
func (p *Plan) Close() error {
	p.open.done()
	if p.held != nil {
		return p.held.Close()
	}
	return nil
}

// Look finds the backup that a request means, and compares the whole of it with
// its checksums. The caller closes the plan.
func Look(ctx context.Context, d *work.Service, r Request) (*Plan, error) {
	a := asked{Request: r}
	if r.Identity != "" {
		file, err := os.Open(r.Identity)
		if err == nil {
			a.keys, err = format.ReadKeys(file)
			err = errors.Join(err, file.Close())
		}
		if err != nil {
			return nil, fault.New(fault.Usage, "the key cannot be read", r.Identity,
				"Name a file that age-keygen wrote.").Wrap(err)
		}
	}
	if r.Into != "" {
		return intoAccount(ctx, d, a)
	}
	known, err := d.Book.Knows(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	if !known && len(r.Files) > 0 {
		return nil, fault.New(fault.Usage, "no site is there that files could come back to", r.Site,
			"Restore the whole of it, without --file. Nothing was touched.")
	}
	if !known {
		o, err := forEmpty(ctx, d, a)
		if err != nil {
			return nil, err
		}
		return planned(nil, a, o), nil
	}
	if len(r.Answers) > 0 { // never passed over, and never in a journal
		return nil, fault.New(fault.Usage, "the site is there: it comes back with the answers that it had", r.Site,
			"Leave -a out. Nothing was touched.")
	}
	h, err := d.Hold(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	if a, err = a.ofFolder(ctx, d); err != nil {
		return nil, work.Closing(h, err)
	}
	o, err := file(ctx, d, a)
	if err == nil && o == nil {
		o, err = stored(ctx, d, h.In, h.Address, a)
	}
	if err != nil {
		return nil, work.Closing(h, err)
	}
	p := planned(h, a, o)
	if len(r.Files) > 0 {
		if p.Files, err = chosen(ctx, o, r.Files); err != nil {
			return nil, errors.Join(err, p.Close())
		}
	}
	return p, nil
}

func planned(h *work.Held, a asked, o *opened) *Plan {
	p := &Plan{Files: []string{}, From: o.from, MadeAt: o.MadeAt, Of: o.Record, held: h, asked: a, open: o}
	name := filepath.Base(o.from)
	for at := 0; at < len(name); at++ { // one here begins with the site's address
		if named, is := step.BackupNamed(name[at:]); is {
			p.Why, p.To = named.Why, named.To
			break
		}
	}
	p.Keeps = h != nil && !a.NoBackup
	if h != nil {
		p.Site = &h.Site
		p.Closed = int(work.ClosedFor(h.Site, p.Keeps, true, p.Keeps).Seconds())
	}
	return p
}

// Restore looks and carries out.
func Restore(ctx context.Context, d *work.Service, r Request) (*Done, error) {
	p, err := Look(ctx, d, r)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	return Carry(ctx, d, p)
}

// Carry brings the backup back: to where the site is, or to an empty place.
func Carry(ctx context.Context, d *work.Service, p *Plan) (*Done, error) {
	if p.held == nil {
		return elsewhere(ctx, d, p.asked, p.open)
	}
	d.AsItIs(ctx, p.held)
	if len(p.Files) > 0 {
		return someFiles(ctx, d, p)
	}
	return inPlace(ctx, d, p.held, p.asked, p.open)
}

// opened is a backup that was read and compared with its checksums.
type opened struct {
	*place.Content
	from string
	done func() // drops what was fetched
}

// Newest reads the newest backup of an address in an account's store: its content,
// when it was made, and what lets go of it.
// NotOurs takes one that this vault did not make, too.
func Newest(ctx context.Context, d *work.Service, in *hosting.Account, address string, notOurs bool) (*place.Content,
	func(), error) {
	o, err := stored(ctx, d, in, address, asked{Request: Request{NotOurs: notOurs}})
	if err != nil {
		return nil, nil, err
	}
	return o.Content, o.done, nil
}

// open reads a backup.
func open(ctx context.Context, d *work.Service, name string, opener format.Opener, a asked) (*place.Content, error) {
	b, err := format.Open(ctx, opener, a.keys)
	switch {
	case errors.Is(err, format.ErrDamaged):
		return nil, fault.New(fault.Usage, "the backup cannot be used", name,
			"Take another one. Nothing was touched.").Wrap(err)
	case errors.Is(err, format.ErrSealed):
		return nil, fault.New(fault.Usage, "the backup is encrypted", name,
			"Give the key that opens it: --identity FILE. Nothing was touched.").Wrap(err)
	case err != nil:
		return nil, err
	}
	c := &place.Content{Backup: b}
	if err := json.Unmarshal(b.Site, &c.Record); err != nil {
		return nil, fault.New(fault.Usage, "the backup does not say what site it is of", name,
			"Take another one. Nothing was touched.").Wrap(err)
	}
	if err := c.Record.Valid(); err != nil {
		return nil, fault.New(fault.Usage, "the backup's record of the site is not one", name,
			"Take another one. Nothing was touched.").Wrap(err)
	}
	ours, err := b.Ours(d.Book.Vault.Key)
	if err != nil {
		return nil, err
	}
	if !ours && !a.NotOurs {
		return nil, fault.New(fault.NeedsConfirmation,
			"this machine's vault did not make the backup, or it was changed since", name,
			"Whoever can write into an account could have made it. If you know where it comes from, add --not-ours. "+
				"Nothing was touched.")
	}
	if c.Secrets, err = d.Book.Vault.Unseal(b.Secrets); err == nil {
		return c, nil
	}
	if !a.NotOurs {
		return nil, fault.New(fault.Usage, "the passwords in the backup belong to another vault", name,
			"Open its recovery file here: "+fault.Call("recovery", "open", "FILE")+"; or have new passwords made: --not-ours. "+
				"Nothing was touched.").Wrap(err)
	}
	return c, foreign(ctx, d, c, name)
}

// file opens a backup that is a file of this machine; nil where the request
// names none.
func file(ctx context.Context, d *work.Service, a asked) (*opened, error) {
	if a.From == "" {
		return nil, nil
	}
	if _, err := os.Stat(a.From); err != nil {
		return nil, nil // a name in the account, or none at all
	}
	c, err := open(ctx, d, a.From, func() (io.ReadCloser, error) { return os.Open(a.From) }, a)
	if err != nil {
		return nil, err
	}
	return &opened{c, a.From, func() {}}, nil
}

// ofTrouble are backups of what was found wanting: a restore, an undo and a repair keep what they replace, an
// intruder's scripts included. They are taken by name only.
var ofTrouble = []string{step.BeforeRestore, step.BeforeUndo, step.BeforeRepair}

// stored opens a backup of an address in the account's store: the one that is
// named, or the newest of a site that was as it should be.
func stored(ctx context.Context, d *work.Service, in *hosting.Account, address string, a asked) (*opened, error) {
	all, err := backup.In(ctx, in, address)
	if err != nil {
		return nil, err
	}
	for _, l := range all {
		if a.From != "" && path.Base(l.File) != path.Base(a.From) ||
			a.From == "" && slices.Contains(ofTrouble, l.Why) {
			continue
		}
		opener, done, err := fetched(ctx, d, in, l.File)
		if err != nil {
			return nil, err
		}
		c, err := open(ctx, d, l.File, opener, a)
		if err == nil && a.From == "" {
			err = ofItsTime(c, l)
		}
		if err != nil {
			done()
			return nil, err
		}
		return &opened{c, l.File, done}, nil
	}
	if a.From != "" {
		return nil, fault.New(fault.Usage, "there is no such backup, here or in the account", a.From,
			"Name a file, or one of those that "+fault.Call("backup", "SITE", "--list")+" shows.")
	}
	if len(all) == 0 {
		return nil, fault.New(fault.Usage, "the account has no backup of this site", address, "Name one with --from FILE.")
	}
	return nil, fault.New(fault.Usage, "the account has no backup of this site, but for what a restore found", address,
		"See all that there are: "+fault.Call("backup", address, "--list")+"; and name one with --from FILE.")
}

// ofItsTime sees that a backup which is taken because it is the newest was made when its name says: anybody who can
// write into the account can give an old one a new name.
func ofItsTime(c *place.Content, l backup.Listed) error {
	if apart := c.MadeAt.Sub(l.MadeAt).Abs(); apart <= time.Minute {
		return nil
	}
	return &fault.Error{Kind: fault.NeedsConfirmation, What: "the newest backup is not of the time that its name says",
		Where: l.File, Details: []string{"its name says " + l.MadeAt.Format(time.DateTime) + ", and it was made on " +
			c.MadeAt.UTC().Format(time.DateTime)},
		Remedy: "Somebody has given it another name. See all that there are: " + fault.Call("backup", l.Address, "--list") +
			"; and name the one that is meant with --from. Nothing was touched."}
}

// fetched gives an opener of a backup in an account. One that is far away is
// fetched once; done drops what was fetched.
func fetched(ctx context.Context, d *work.Service, in *hosting.Account, name string) (opener format.Opener, done func(),
	err error) {
	if in.Line().OwnMachine {
		return func() (io.ReadCloser, error) { return in.Files.Open(ctx, name) }, func() {}, nil
	}
	from, err := in.Files.Open(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	defer from.Close()
	to, err := d.Book.Home.Temporary()
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

// inPlace replaces a site by what a backup holds.
func inPlace(ctx context.Context, d *work.Service, h *work.Held, a asked, o *opened) (*Done, error) {
	if o.Only != "" && o.Record.Release != h.Release {
		return nil, fault.New(fault.Usage, "the backup holds a database alone, of release "+o.Record.Release, h.Address,
			"The site has "+h.Release+" now; restore a whole backup of "+o.Record.Release+" first.")
	}
	if o.Record.App != h.App {
		return nil, fault.New(fault.Usage, "the backup is of another app, "+o.Record.App, h.Address,
			"Restore it to an empty place: "+fault.Call("restore", "ADDRESS", "--from", o.from))
	}
	after, s, err := becomes(d, h, o.Content)
	if err != nil {
		return nil, err
	}
	t, err := d.Begin(h.In, s)
	if err != nil {
		return nil, err
	}
	done := &Done{From: o.from}
	err = d.CarryOut(ctx, t, work.Job{Way: Way(), Request: a.Request, List: func(ctx context.Context) (job.List, func(),
		error) {
		list, err := (&restoring{Tools: t, held: h, content: o.Content, after: after, request: a.Request, done: done}).list(
			ctx,
		)
		return list, nil, err
	}})
	if err != nil {
		return nil, err
	}
	done.Done, err = d.Done(ctx, t)
	done.Warnings = append(done.Warnings, renewed(o.Content, h.Address)...)
	return done, err
}

// renewed tells of a new password of the admin.
func renewed(c *place.Content, address string) []string {
	if !c.Foreign {
		return nil
	}
	return []string{"the backup's passwords are another vault's: the admin has a new one. See it with: " +
		fault.Call("reveal", address)}
}

// becomes is the site's record after it was restored, and the site.
func becomes(d *work.Service, h *work.Held, c *place.Content) (ledger.Site, *site.Site, error) {
	x, old := h.Site, c.Record
	if c.Only != "" {
		old = h.Site // the site's own, as it is
		c.Secrets = h.Of.Secrets
	}
	x.Release, x.Archive, x.Title, x.Language, x.Admin = old.Release, old.Archive, old.Title, old.Language, old.Admin
	x.Entries, x.Files, x.Bytes, x.Chosen, x.Licence, x.Gone = old.Entries, old.Files, old.Bytes, old.Chosen, old.Licence,
		""
	if x.AdminURL = x.URL; len(old.AdminURL) > len(old.URL) {
		x.AdminURL += old.AdminURL[len(old.URL):]
	}
	if (old.Database == nil) != (x.Database == nil) || old.Database != nil &&
		(old.Database.Engine != x.Database.Engine || old.Database.Tables != x.Database.Tables) {
		return x, nil, fault.New(fault.Usage, "the backup holds another kind of database than the site has", h.Address,
			"Restore it to an empty place.")
	}
	s, err := d.Book.From(x)
	if err != nil {
		return x, nil, err
	}
	own := s.Secrets[site.DataPassword]
	if c.Foreign { // what nobody knows of it is as it was here
		before := maps.Clone(h.Of.Secrets)
		maps.Copy(before, c.Secrets)
		c.Secrets = before
	}
	s = s.Only(c.Secrets)
	if !own.Empty() {
		s = s.With(map[string]secret.Text{site.DataPassword: own})
	}
	c.Before, err = valuesOf(d, old, c.Secrets)
	return x, s, err
}

// valuesOf gives what the configuration of a site held when it had this record.
func valuesOf(d *work.Service, x ledger.Site, secrets map[string]secret.Text) (fill.Values, error) {
	s, err := d.Book.Was(x)
	if err != nil {
		return nil, err
	}
	return s.Only(secrets).Values(d.Now())
}

// elsewhere brings a backup to a place where nothing is: a file of this machine,
// or what the account keeps of a site that was there.
func elsewhere(ctx context.Context, d *work.Service, a asked, o *opened) (*Done, error) {
	var err error
	if o.Only != "" {
		return nil, fault.New(fault.Usage, "the backup holds a database alone", o.from,
			"It can only be restored where the site is.")
	}
	if o.Before, err = valuesOf(d, o.Record, o.Secrets); err != nil {
		return nil, err
	}
	p, err := place.At(ctx, d, o.Content, place.Request{Site: o.from, At: a.Site, Account: a.Account, Answers: a.Answers},
		Way())
	if err != nil {
		return nil, err
	}
	placed, err := place.Carry(ctx, d, p)
	if err != nil {
		return nil, err
	}
	placed.Warnings = append(placed.Warnings, renewed(o.Content, placed.Site.Address)...)
	return &Done{Done: *placed, From: o.from}, nil
}

// forEmpty opens the backup for a place where nothing is. Where the account has
// none either, the word may have been meant for a site.
func forEmpty(ctx context.Context, d *work.Service, a asked) (*opened, error) {
	o, err := file(ctx, d, a)
	if err != nil || o != nil {
		return o, err
	}
	_, unknown := d.Book.Find(ctx, a.Site)
	acc, err := d.Book.Account(a.Account, a.Site)
	if err != nil {
		return nil, either(a, unknown, err)
	}
	at, err := site.Resolve(a.Site, acc.Domains)
	if err != nil {
		return nil, either(a, unknown, err)
	}
	in, err := d.Hosting.Open(ctx, acc)
	if err != nil {
		return nil, err
	}
	o, err = stored(ctx, d, in, at.Address(), a)
	if err != nil {
		return nil, errors.Join(either(a, unknown, err), in.Close())
	}
	drop := o.done
	o.done = func() {
		drop()
		_ = in.Close()
	}
	return o, nil
}

// either is why nothing can be restored: without a backup's name, that the word
// means no site; else what is wrong with the backup. What is neither (an account
// that cannot be read, say) is told as it is.
func either(a asked, unknown, err error) error {
	if a.From == "" && fault.Of(err).Kind == fault.Usage {
		return unknown
	}
	return err
}
