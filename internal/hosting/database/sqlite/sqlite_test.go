package sqlite_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/databasetest"
	"tivset/internal/hosting/database/sqlite"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/local"
)

func TestSQLite(t *testing.T) {
	account := t.TempDir()
	at := func() files.Closer {
		f, err := local.Open(account)
		require.NoError(t, err)
		return f
	}
	databasetest.Run(t, databasetest.Host{
		Engine: "sqlite", Bare: true, Admin: database.Login{Server: "data"},
		Connect: func(_ context.Context, l database.Login) (database.Server, error) {
			return sqlite.Connect(at(), l.Server), nil
		},
		Open: func(ctx context.Context, l database.Login) (database.Session, error) {
			return sqlite.Open(ctx, at(), database.File(l.Server, l.Database))
		},
	})
	left, err := os.ReadDir(filepath.Join(account, "data"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// What was changed is there for others once the session is closed, and the
// file stays one that others may read.
func TestChangesAreKept(t *testing.T) {
	account, ctx := t.TempDir(), context.Background()
	at := func() files.Closer {
		f, err := local.Open(account)
		require.NoError(t, err)
		return f
	}
	require.NoError(t, sqlite.Connect(at(), "data").CreateDatabase(ctx, "one"))
	s, err := sqlite.Open(ctx, at(), "data/one/one.sqlite")
	require.NoError(t, err)
	require.NoError(t, s.Exec(ctx, "CREATE TABLE a (b INT)", nil))
	require.NoError(t, s.Close())
	s, err = sqlite.Open(ctx, at(), "data/one/one.sqlite")
	require.NoError(t, err)
	tables, err := s.Tables(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"a"}, tables)
	require.NoError(t, s.Close())
	info, err := os.Stat(filepath.Join(account, "data/one/one.sqlite"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o660), info.Mode().Perm())
	all, err := os.ReadDir(filepath.Join(account, "data/one"))
	require.NoError(t, err)
	assert.Len(t, all, 1, "nothing is left beside it")
	_, err = sqlite.Open(ctx, at(), "data/none/none.sqlite")
	assert.ErrorContains(t, err, "no database of this name")
}

// The number of its tables' form, which an app keeps in the file's header, is carried
// along: without it the app would make its tables anew.
func TestNumbersOfTheHeaderAreDumped(t *testing.T) {
	account, ctx := t.TempDir(), context.Background()
	opened := func(name string) database.Session {
		f, err := local.Open(account)
		require.NoError(t, err)
		require.NoError(t, sqlite.Connect(f, "data").CreateDatabase(ctx, name))
		s, err := sqlite.Open(ctx, f, "data/"+name+"/"+name+".sqlite")
		require.NoError(t, err)
		return s
	}
	from, to := opened("one"), opened("two")
	require.NoError(t, from.Exec(ctx, "PRAGMA user_version = 126", nil))
	require.NoError(t, to.Exec(ctx, "PRAGMA application_id = 7", nil))
	var text strings.Builder
	require.NoError(t, from.Dump(ctx, &text, nil))
	_, err := to.Run(ctx, strings.NewReader(text.String()), database.ScriptOptions{})
	require.NoError(t, err)
	for name, is := range map[string]string{"user_version": "126", "application_id": "0"} {
		got, err := to.Value(ctx, "PRAGMA "+name, nil)
		require.NoError(t, err)
		assert.Equal(t, is, got, name)
	}
	require.NoError(t, from.Close())
	require.NoError(t, to.Close())
}
