package team

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"

	"tivset/internal/fault"
	"tivset/internal/records/home"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/records/trust"
	"tivset/internal/records/vault"
	"tivset/internal/secret"
)

// Place is where records lie: on this machine, or in a team's database.
type Place struct {
	Ledger   ledger.Ledger
	Home     home.Home
	Vault    *vault.Vault
	Journals job.JournalStore
}

// Place is the team's own, with what belongs to this machine where it was.
func (t *Team) Place(h home.Home) Place {
	h.Shared = Accounts{t}
	return Place{Ledger: t, Home: h, Vault: vault.Shared(h.VaultKey(), Secrets{t}), Journals: Journals{t}}
}

// Belongings are all records of a place, to be brought to another.
type Belongings struct {
	Sites     []ledger.Site
	Jobs      []ledger.Job
	Redirects []ledger.Redirect
	Measures  []ledger.Measure
	Rounds    []ledger.Round
	Told      []ledger.Telling
	Accounts  map[string][]byte
	Secrets   map[string]secret.Text
	Journals  map[string][][]byte
}

// Read reads all records of a place. While a job runs there, nothing can be brought away.
func (p Place) Read(ctx context.Context) (*Belongings, error) {
	b := &Belongings{Accounts: map[string][]byte{}, Journals: map[string][][]byte{}}
	var err error
	read := func(do func() error) {
		if err == nil {
			err = do()
		}
	}
	read(func() (err error) { b.Sites, err = p.Ledger.Sites(ctx); return err })
	read(func() (err error) { b.Jobs, err = p.Ledger.Jobs(ctx, ledger.JobFilter{}); return err })
	read(func() (err error) { b.Redirects, err = p.Ledger.Redirects(ctx); return err })
	read(func() (err error) { b.Measures, err = p.Ledger.Measures(ctx); return err })
	read(func() (err error) { b.Rounds, err = p.Ledger.Rounds(ctx); return err })
	read(func() (err error) { b.Told, err = p.Ledger.Told(ctx); return err })
	read(func() (err error) { b.Secrets, err = p.Vault.All(); return err })
	read(func() error { return p.accounts(b) })
	read(func() error { return p.journals(b) })
	return b, err
}

func (p Place) accounts(b *Belongings) error {
	names, err := p.Home.Accounts()
	if err != nil {
		return err
	}
	for _, name := range names {
		if b.Accounts[name], err = p.Home.AccountFile(name); err != nil {
			return err
		}
	}
	return nil
}

func (p Place) journals(b *Belongings) error {
	ids, err := p.Journals.IDs()
	if err != nil {
		return err
	}
	for _, id := range ids {
		log, err := p.Journals.Open(id)
		if errors.Is(err, job.ErrRunning) {
			return fault.New(fault.NeedsConfirmation, "a job is running, and records cannot be moved meanwhile", id,
				"Wait for its end. Nothing was touched.")
		}
		if err != nil {
			return err
		}
		b.Journals[id], err = log.Lines()
		if err := errors.Join(err, log.Close()); err != nil {
			return err
		}
	}
	return nil
}

// Begin makes a ledger in the database, founded by this machine under a name, and with all that a place has: all of
// it, or nothing. It gives the fingerprint of the team.
func (t *Team) Begin(ctx context.Context, h home.Home, name string, b *Belongings, checksums secret.Text) (
	founded string, err error) {
	me, err := Me(h)
	if err != nil {
		return "", err
	}
	if t.signer, err = trust.SignerIn(h.SigningKey()); err != nil {
		return "", err
	}
	err = t.inOne(ctx, func(ctx context.Context, tx *sql.Tx) error {
		if err := t.make(ctx, tx); err != nil {
			return err
		}
		w := &word{ctx: ctx, team: t}
		if err := tx.QueryRowContext(ctx, "SELECT now()").Scan(&w.at); err != nil {
			return err
		}
		me.Name, me.May, me.Since = name, trust.Admin, w.at.UTC()
		if founded, err = w.found(me); err != nil {
			return err
		}
		if err := b.bring(ctx, t, tx, w, checksums); err != nil {
			return err
		}
		return w.write(ctx, tx)
	})
	if errors.Is(err, errThere) {
		return "", fault.New(fault.NeedsConfirmation, "somebody else began a ledger there at the same time", t.address,
			"Run the same again, to join it. Nothing was touched.")
	}
	if err != nil {
		return "", err
	}
	return founded, t.Remember(ctx, h, founded)
}

// found makes the first entry of a log, and gives its fingerprint, which is the team's.
func (w *word) found(me trust.Member) (string, error) {
	epoch, err := vault.NewEpoch([]string{me.Seal})
	if err != nil {
		return "", err
	}
	by := w.team.signer
	by.Name = me.Name
	s, e, err := w.chain.Enact(by, w.at, &trust.Charter{Team: rand.Text(), Version: 1, Members: []trust.Member{me},
		Epochs: []trust.EpochKey{epoch}}, "founded by "+me.Name)
	w.entries = append(w.entries, writing{e, s})
	return trust.Fingerprint(s.Hash()), err
}

// bring writes everything into empty tables.
func (b *Belongings) bring(ctx context.Context, t *Team, tx *sql.Tx, w *word, checksums secret.Text) error {
	if err := b.list(ctx, t.SQL.Within(tx, w)); err != nil {
		return err
	}
	for name, file := range b.Accounts {
		if err := putAccount(ctx, tx, w, name, file); err != nil {
			return err
		}
	}
	for id, lines := range b.Journals {
		if err := t.bringJournal(ctx, tx, w, id, lines); err != nil {
			return err
		}
	}
	secrets := map[string]secret.Text{vault.ChecksumsOf: checksums}
	for name, s := range b.Secrets {
		secrets[name] = s
	}
	sealed, err := vault.SealAll(secrets, []string{w.chain.Charter.Epoch()})
	if err != nil {
		return err
	}
	return put(ctx, tx, w, sealed)
}

func (t *Team) bringJournal(ctx context.Context, tx *sql.Tx, w *word, id string, lines [][]byte) error {
	by, err := w.by()
	if err != nil {
		return err
	}
	var before []byte
	for n, line := range lines {
		before = by.SignLine(w.chain.Charter.Team, id, n, before, line)
		if _, err := tx.ExecContext(ctx, "INSERT INTO journals (id, n, line, member, signature) VALUES ($1, $2, $3, $4, $5)",
			id, n, string(line), by.Name, before); err != nil {
			return err
		}
	}
	return w.Note(trust.What{Kind: trust.OfJournal, Key: id, Record: []byte(newJournal)})
}

// list writes into a ledger what belongs there.
func (b *Belongings) list(ctx context.Context, l ledger.Ledger) error {
	for _, s := range b.Sites {
		if err := l.PutSite(ctx, s); err != nil {
			return err
		}
	}
	for _, j := range b.Jobs {
		if err := l.PutJob(ctx, j); err != nil {
			return err
		}
	}
	for _, r := range b.Redirects {
		if err := l.PutRedirect(ctx, r); err != nil {
			return err
		}
	}
	for _, m := range b.Measures {
		if err := l.PutMeasure(ctx, m); err != nil {
			return err
		}
	}
	for _, r := range b.Rounds {
		if err := l.PutRound(ctx, r); err != nil {
			return err
		}
	}
	for _, one := range b.Told {
		if _, err := l.Tell(ctx, one, 0); err != nil {
			return err
		}
	}
	return nil
}

// Write writes everything into a place where nothing is.
func (p Place) Write(ctx context.Context, b *Belongings) error {
	if err := b.list(ctx, p.Ledger); err != nil {
		return err
	}
	for name, file := range b.Accounts {
		if err := p.Home.PutAccountFile(name, file); err != nil {
			return err
		}
	}
	for id, lines := range b.Journals {
		log, err := p.Journals.New(id)
		if err != nil {
			return err
		}
		for _, line := range lines {
			if err := log.Append(line); err != nil {
				return errors.Join(err, log.Close())
			}
		}
		if err := log.Close(); err != nil {
			return err
		}
	}
	return p.Vault.Set(b.Secrets)
}

// Compare says what of a place is not in another as it is here: of what was brought
// nothing is.
func (b *Belongings) Compare(other *Belongings) error {
	for what, counts := range map[string][2]int{"sites": {len(b.Sites), len(other.Sites)},
		"jobs": {len(b.Jobs), len(other.Jobs)}, "redirects": {len(b.Redirects), len(other.Redirects)},
		"accounts": {len(b.Accounts), len(other.Accounts)}, "journals": {len(b.Journals), len(other.Journals)}} {
		if counts[0] != counts[1] {
			return fmt.Errorf("%d %s were to be brought, and %d are there", counts[0], what, counts[1])
		}
	}
	for name, s := range b.Secrets {
		if other.Secrets[name].Reveal() != s.Reveal() {
			return fmt.Errorf("the secret %s does not come back as it was", name)
		}
	}
	return nil
}

// MovedAway notes that the ledger is not in this database any more, unless somebody has
// joined it meanwhile.
func (t *Team) MovedAway(ctx context.Context) error {
	return t.change(ctx, func(ctx context.Context, tx *sql.Tx, w *word) error {
		if len(w.chain.Charter.Members) > 1 {
			return errOthers
		}
		_, err := tx.ExecContext(ctx, "UPDATE about SET moved = $1", t.now().UTC())
		return err
	})
}

var errOthers = errors.New("others work with the ledger")
