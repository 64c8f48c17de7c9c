package sitetest

import (
	"context"
	"net/url"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/home"
	"tivset/internal/records/team"
	"tivset/internal/records/trust"
	"tivset/internal/trial/servers"
)

// Records gives the address of a new database for a team's records.
func Records(t *testing.T) string {
	t.Helper()
	ctx, d := context.Background(), servers.PostgreSQL(t)
	to := url.URL{Scheme: "postgres", User: url.UserPassword(d.User, d.Password), Host: d.Address, Path: "/postgres"}
	c, err := pgx.Connect(ctx, to.String())
	require.NoError(t, err)
	defer c.Close(ctx)
	_, err = c.Exec(ctx, "CREATE DATABASE records")
	require.NoError(t, err)
	to.Path, to.RawQuery = "/records", "sslmode=disable"
	return to.String()
}

// CutOff ends every connection to a team's records, as a database that is started anew does.
func CutOff(t *testing.T, at string) {
	t.Helper()
	ctx := context.Background()
	c, err := pgx.Connect(ctx, at)
	require.NoError(t, err)
	defer c.Close(ctx)
	_, err = c.Exec(ctx,
		"SELECT pg_terminate_backend(pid, 10000) FROM pg_stat_activity WHERE application_name = 'tivset'")
	require.NoError(t, err)
}

// OnTeam brings the world's records into a database, where they are from now on.
func OnTeam(t *testing.T, w *World, at string) {
	t.Helper()
	ctx := context.Background()
	own := team.Place{Ledger: w.Book.Ledger, Home: w.Home, Vault: w.vault, Journals: w.Book.Journals}
	b, err := own.Read(ctx)
	require.NoError(t, err)
	checksums, err := own.Vault.ForTeam()
	require.NoError(t, err)
	l := opened(t, at)
	founded, err := l.Begin(ctx, w.Home, "wharfinger", b, checksums)
	require.NoError(t, err)
	w.team, w.Team = l, founded
	require.NoError(t, w.Home.SetAsideRecords(time.Now()))
	w.on(l.Place(w.Home))
}

func opened(t *testing.T, at string) *team.Team {
	t.Helper()
	l, err := team.Open(context.Background(), at, time.Now)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	return l
}

// Another is another machine of the team that w works with: with a home of its own, and the
// same account.
func Another(t *testing.T, w *World, at string) *World {
	t.Helper()
	ctx := context.Background()
	second := &World{T: t, Home: home.At(t.TempDir()), Root: w.Root, Demo: w.Demo, Real: w.Real, source: w.source,
		Team: w.Team}
	me, err := team.Me(second.Home)
	require.NoError(t, err)
	me.Name, me.May = "steward", trust.Operate
	require.NoError(t, w.team.Join(ctx, me, w.vault))
	l := opened(t, at)
	_, err = l.Enter(ctx, second.Home, w.Team)
	require.NoError(t, err)
	second.team = l
	second.on(l.Place(second.Home))
	return second
}
