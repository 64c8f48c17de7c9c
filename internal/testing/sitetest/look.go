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
	"tivset/internal/site"
)

// session signs in to a site's database as the site does.
func (w *World) session(x ledger.Site) database.Session {
	w.T.Helper()
	a, err := w.Home.Account(x.Account)
	require.NoError(w.T, err)
	password, err := w.Service.Vault.Get("sites/" + x.Address + "/data.password")
	if x.Database.User != "" {
		require.NoError(w.T, err)
	}
	server := a.Database(x.Database.Server, x.Database.Engine)
	s, err := w.Reach.Session(context.Background(), a, server, database.Login{Server: server.Server, User: x.Database.User, Password: password, Database: x.Database.Name})
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
func (w *World) Copy(r site.CopyRequest) *site.Installed {
	w.T.Helper()
	p, err := w.Service.PlanCopy(context.Background(), r)
	require.NoError(w.T, err)
	defer p.Close()
	done, err := w.Service.Copy(context.Background(), p)
	require.NoError(w.T, err)
	return done
}

// Remove takes a site out.
func (w *World) Remove(r site.RemoveRequest) *site.Removed {
	w.T.Helper()
	p, err := w.Service.PlanRemove(context.Background(), r)
	require.NoError(w.T, err)
	defer p.Close()
	done, err := w.Service.Remove(context.Background(), p)
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
