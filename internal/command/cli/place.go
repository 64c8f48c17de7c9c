package cli

import (
	"context"
	"io"
	"os"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/records/home"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/records/team"
	"tivset/internal/records/trust"
	"tivset/internal/records/vault"
)

// Records opens what is on record, wherever that lies: in files of this machine, or in a
// team's database. As is what this machine is called there; "" where there is no team.
func (a *App) Records(ctx context.Context) (p team.Place, as string, close func(), err error) {
	h := a.World.Home()
	at, err := h.LedgerAt()
	if err != nil {
		return p, "", nil, err
	}
	if at.Use == "" {
		p, close, err = a.OwnRecords(ctx, h)
		return p, "", close, err
	}
	t, close := a.World.Team, func() {}
	if t == nil {
		if t, err = team.Open(ctx, at.Use, a.World.Now); err != nil {
			return p, "", nil, err
		}
		close = func() { _ = t.Close() }
	}
	me, err := a.Known(ctx, t, h)
	if err != nil {
		close()
		return p, "", nil, err
	}
	return t.Place(h), me.Name, close, nil
}

// OwnRecords opens the files of this machine.
func (a *App) OwnRecords(ctx context.Context, h home.Home) (p team.Place, close func(), err error) {
	l, err := ledger.Open(ctx, h.Ledger())
	if f := fault.Of(err); err != nil && f.Remedy != "" {
		f.Where = h.Ledger()
		return p, nil, f
	}
	if err != nil {
		return p, nil, fault.New(fault.Usage, "Tivset's own files cannot be kept", h.Data,
			"Set TIVSET_HOME to a folder that you can write.").Wrap(err)
	}
	return team.Place{Ledger: l, Home: h, Vault: vault.At(h.Vault(), h.VaultKey()), Journals: job.Files(h.Journals())},
		func() { _ = l.Close() }, nil
}

// Known is who this machine is in a team, whose log it follows from where it knows it.
func (a *App) Known(ctx context.Context, t *team.Team, h home.Home) (me trust.Member, err error) {
	at, err := h.LedgerAt()
	if err != nil {
		return me, err
	}
	found, err := t.Found(ctx)
	if err != nil {
		return me, err
	}
	if !found {
		return me, fault.New(fault.Usage, "there is no ledger in the database any more", t.Address(),
			"Ask your team where it is; to go on with files of this machine: "+fault.Call("ledger", "use", "here", "--leave"))
	}
	return t.Enter(ctx, h, at.Team)
}

// home is where accounts are read from, without anything else of the records.
func (a *App) AccountsHome(ctx context.Context) (home.Home, func(), error) {
	p, _, done, err := a.Records(ctx)
	return p.Home, done, err
}

// Given reads the answers that options give.
func (a *App) Given(options []string) (answer.Given, error) {
	return answer.Options(options, func(name string) (io.ReadCloser, error) {
		if name == "-" {
			return io.NopCloser(a.Streams.In), nil
		}
		return os.Open(name)
	})
}
