package sitetest

import (
	"bytes"
	"context"
	"path"
	"time"

	"tivset/internal/answer/care"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/records/vault"
	"tivset/internal/secret"
)

// ledgerWrap makes calls to the ledger fail; what is written, before or after its effect.
type ledgerWrap struct {
	ledger.Ledger
	trip *FaultInjector
}

// wrapped gives the wrap of a ledger, which holds off other machines where that one can.
func wrapped(l ledger.Ledger, t *FaultInjector) ledger.Ledger {
	wrap := &ledgerWrap{l, t}
	if s, can := l.(sole); can {
		return &soleWrap{wrap, s}
	}
	return wrap
}

// sole is a ledger that holds off other machines.
type sole interface {
	Sole(ctx context.Context, what string) (done func(), err error)
}

type soleWrap struct {
	*ledgerWrap
	sole
}

func (l *ledgerWrap) both(what string, do func() error) error {
	if err := l.trip.err("ledger, before " + what); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	return l.trip.err("ledger, after " + what)
}

func (l *ledgerWrap) Sites(ctx context.Context) ([]ledger.Site, error) {
	if err := l.trip.err("ledger, sites"); err != nil {
		return nil, err
	}
	return l.Ledger.Sites(ctx)
}

func (l *ledgerWrap) Site(ctx context.Context, address string) (ledger.Site, error) {
	if err := l.trip.err("ledger, site"); err != nil {
		return ledger.Site{}, err
	}
	return l.Ledger.Site(ctx, address)
}

func (l *ledgerWrap) Jobs(ctx context.Context, of ledger.JobFilter) ([]ledger.Job, error) {
	if err := l.trip.err("ledger, jobs"); err != nil {
		return nil, err
	}
	return l.Ledger.Jobs(ctx, of)
}

func (l *ledgerWrap) Job(ctx context.Context, id string) (ledger.Job, error) {
	if err := l.trip.err("ledger, job"); err != nil {
		return ledger.Job{}, err
	}
	return l.Ledger.Job(ctx, id)
}

func (l *ledgerWrap) Redirects(ctx context.Context) ([]ledger.Redirect, error) {
	if err := l.trip.err("ledger, redirects"); err != nil {
		return nil, err
	}
	return l.Ledger.Redirects(ctx)
}

func (l *ledgerWrap) PutSite(ctx context.Context, s ledger.Site) error {
	return l.both("put site", func() error { return l.Ledger.PutSite(ctx, s) })
}

func (l *ledgerWrap) KeepSite(ctx context.Context, s ledger.Site) error {
	return l.both("keep site", func() error { return l.Ledger.KeepSite(ctx, s) })
}

func (l *ledgerWrap) Label(ctx context.Context, labels map[string]map[string]string) error {
	return l.both("label", func() error { return l.Ledger.Label(ctx, labels) })
}

func (l *ledgerWrap) Entrust(ctx context.Context, decided map[string]care.Care) error {
	return l.both("entrust", func() error { return l.Ledger.Entrust(ctx, decided) })
}

func (l *ledgerWrap) DropSite(ctx context.Context, address string) error {
	return l.both("drop site", func() error { return l.Ledger.DropSite(ctx, address) })
}

func (l *ledgerWrap) PutJob(ctx context.Context, j ledger.Job) error {
	return l.both("put job "+string(j.Outcome), func() error { return l.Ledger.PutJob(ctx, j) })
}

func (l *ledgerWrap) PutMeasure(ctx context.Context, m ledger.Measure) error {
	return l.both("put measure", func() error { return l.Ledger.PutMeasure(ctx, m) })
}

func (l *ledgerWrap) PutRedirect(ctx context.Context, r ledger.Redirect) error {
	return l.both("put redirect", func() error { return l.Ledger.PutRedirect(ctx, r) })
}

func (l *ledgerWrap) DropRedirect(ctx context.Context, address string) error {
	return l.both("drop redirect", func() error { return l.Ledger.DropRedirect(ctx, address) })
}

func (l *ledgerWrap) PutRound(ctx context.Context, r ledger.Round) error {
	return l.both("put round", func() error { return l.Ledger.PutRound(ctx, r) })
}

func (l *ledgerWrap) Tell(ctx context.Context, t ledger.Telling, again time.Duration) (bool, error) {
	if err := l.trip.err("ledger, tell"); err != nil {
		return false, err
	}
	return l.Ledger.Tell(ctx, t, again)
}

func (l *ledgerWrap) Untell(ctx context.Context, address string, troubles ...string) error {
	if err := l.trip.err("ledger, untell " + path.Base(address)); err != nil {
		return err
	}
	return l.Ledger.Untell(ctx, address, troubles...)
}

// vaultWrap makes calls to the vault fail; what is written, before or after its effect.
type vaultWrap struct {
	vault.Keeper
	trip *FaultInjector
}

func (v *vaultWrap) Get(name string) (secret.Text, error) {
	if err := v.trip.err("vault, get"); err != nil {
		return secret.Text{}, err
	}
	return v.Keeper.Get(name)
}

func (v *vaultWrap) Names(prefix string) ([]string, error) {
	if err := v.trip.err("vault, names"); err != nil {
		return nil, err
	}
	return v.Keeper.Names(prefix)
}

func (v *vaultWrap) both(what string, do func() error) error {
	if err := v.trip.err("vault, before " + what); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	return v.trip.err("vault, after " + what)
}

func (v *vaultWrap) Set(secrets map[string]secret.Text) error {
	return v.both("set", func() error { return v.Keeper.Set(secrets) })
}

func (v *vaultWrap) Forget(prefix string) error {
	return v.both("forget", func() error { return v.Keeper.Forget(prefix) })
}

func (v *vaultWrap) Seal(prefix string) ([]byte, error) {
	if err := v.trip.err("vault, seal"); err != nil {
		return nil, err
	}
	return v.Keeper.Seal(prefix)
}

func (v *vaultWrap) Key(text []byte) ([]byte, error) {
	if err := v.trip.err("vault, key"); err != nil {
		return nil, err
	}
	return v.Keeper.Key(text)
}

// shelfWrap makes calls to journals fail. After an error there is nothing of a line.
type shelfWrap struct {
	job.JournalStore
	trip *FaultInjector
}

func (s *shelfWrap) New(id string) (job.Log, error) {
	if err := s.trip.err("journal, new"); err != nil {
		return nil, err
	}
	return s.wrapped(s.JournalStore.New(id))
}

func (s *shelfWrap) Open(id string) (job.Log, error) {
	if err := s.trip.err("journal, open"); err != nil {
		return nil, err
	}
	return s.wrapped(s.JournalStore.Open(id))
}

func (s *shelfWrap) wrapped(l job.Log, err error) (job.Log, error) {
	if err != nil {
		return nil, err
	}
	return &logWrap{l, s.trip}, nil
}

type logWrap struct {
	job.Log
	trip *FaultInjector
}

func (l *logWrap) Append(line []byte) error {
	what := "journal, append"
	if bytes.HasPrefix(line, []byte(`{"end":`)) {
		what = "journal, end"
	}
	if err := l.trip.err(what); err != nil {
		return err
	}
	return l.Log.Append(line)
}
