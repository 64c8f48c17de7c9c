package sitetest

import (
	"os"
	"path/filepath"
	"testing"

	"context"
	"strings"

	"filippo.io/age"

	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/database"
	"tivset/internal/records/ledger"
	"tivset/internal/work"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
)

// session signs in to a site's database as the site does.
func (w *World) session(x ledger.Site) database.Session {
	w.T.Helper()
	a, err := w.Home.Account(x.Account)
	require.NoError(w.T, err)
	password, err := w.Book.Vault.Get("sites/" + x.Address + "/data.password")
	if x.Database.User != "" {
		require.NoError(w.T, err)
	}
	server := a.Database(x.Database.Server, x.Database.Engine)
	s, err := w.Reach.Session(context.Background(), a, server, database.Login{Server: server.Server, User: x.Database.User,
		Password: password, Database: x.Database.Name})
	require.NoError(w.T, err)
	return s
}

// Query runs a statement in a site's database; {tables} is its prefix.
func (w *World) Query(x ledger.Site, statement string) {
	w.T.Helper()
	s := w.session(x)
	require.NoError(w.T, s.Exec(context.Background(), strings.ReplaceAll(statement, "{tables}", x.Database.Tables), nil))
	require.NoError(w.T, s.Close())
}

// Value asks a site's database for one value.
func (w *World) Value(x ledger.Site, query string) string {
	w.T.Helper()
	s := w.session(x)
	defer s.Close()
	v, err := s.Value(context.Background(), strings.ReplaceAll(query, "{tables}", x.Database.Tables), nil)
	require.NoError(w.T, err)
	return v
}

// Copy copies or moves a site.
func (w *World) Copy(r place.Request) *work.Done {
	w.T.Helper()
	p, err := place.Look(context.Background(), w.Desk, r)
	require.NoError(w.T, err)
	defer p.Close()
	done, err := place.Carry(context.Background(), w.Desk, p)
	require.NoError(w.T, err)
	return done
}

// Remove takes a site out.
func (w *World) Remove(r remove.Request) *remove.Done {
	w.T.Helper()
	p, err := remove.Look(context.Background(), w.Desk, r)
	require.NoError(w.T, err)
	defer p.Close()
	done, err := remove.Remove(context.Background(), w.Desk, p)
	require.NoError(w.T, err)
	return done
}

// Dump gives all that is in a site's database.
func (w *World) Dump(x ledger.Site) string {
	w.T.Helper()
	s := w.session(x)
	defer s.Close()
	var out strings.Builder
	require.NoError(w.T, s.Dump(context.Background(), &out, nil))
	return out.String()
}

// AgeKey makes a key of age: a file with the private part, and the public part.
func AgeKey(t *testing.T) (file, public string) {
	t.Helper()
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	file = filepath.Join(t.TempDir(), "key.txt")
	require.NoError(t, os.WriteFile(file, []byte(key.String()+"\n"), 0o600))
	return file, key.Recipient().String()
}
