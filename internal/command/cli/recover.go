package cli

import (
	"context"

	"tivset/internal/core"
	"tivset/internal/records/ledger"
	"tivset/internal/records/recovery"
)

// Recoverable is what another machine needs to go on.
func (a *App) Recoverable(ctx context.Context, s *core.Core) (recovery.Source, error) {
	from := recovery.Source{Home: a.World.Home(), Manifest: recovery.Manifest{Version: recovery.Version,
		Made: a.World.Now().UTC(), Accounts: []string{}}}
	addresses, err := s.Book.Ledger.Addresses(ctx)
	if err != nil {
		return from, err
	}
	from.Manifest.Sites = len(addresses)
	if from.Manifest.Accounts, err = s.Book.Home.Accounts(); err != nil {
		return from, err
	}
	if own, is := s.Book.Ledger.(*ledger.SQLite); is {
		from.Snapshot = own.Snapshot
	} else {
		from.Manifest.Team = true
	}
	return from, nil
}

// refresh brings the recovery file up to date where it still is. What fails is for “tivset” to remind of.
func (a *App) refresh(ctx context.Context, s *core.Core) {
	h := a.World.Home()
	last, err := recovery.Last(h)
	if err != nil || last == nil || !last.Reachable() || !last.Stale(h) {
		return
	}
	if from, err := a.Recoverable(ctx, s); err == nil {
		_ = last.Refresh(ctx, from)
	}
}
