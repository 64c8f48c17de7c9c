package sqlite_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/sqlite"
	"tivset/internal/hosting/files/local"
)

// FuzzRun loads what somebody wrote in a dump's place: whatever it is, nothing is beside the database afterwards.
func FuzzRun(f *testing.F) {
	for _, text := range []string{"CREATE TABLE t (a);\nINSERT INTO t VALUES (1);\n",
		"ATTACH 'k' AS k; CREATE TABLE k.x (a);",
		"VACUUM INTO 'k';", "CREATE TABLE t (a) /* ; INSERT INTO t VALUES ('*/; ATTACH ''k'' AS k; --');",
		"PRAGMA journal_mode = WAL; PRAGMA temp_store_directory = 'k';", "BEGIN; SAVEPOINT x; COMMIT;",
		"CREATE VIRTUAL TABLE v USING fts5(a);",
		"CREATE TRIGGER g AFTER INSERT ON t BEGIN SELECT load_extension('k'); END;"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, script string) {
		account := t.TempDir()
		in, err := local.Open(account)
		require.NoError(t, err)
		defer in.Close()
		require.NoError(t, os.MkdirAll(filepath.Join(account, "data"), 0o755))
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		require.NoError(t, sqlite.Connect(in, "data").CreateDatabase(ctx, "one"))
		s, err := sqlite.Open(ctx, in, database.File("data", "one"))
		require.NoError(t, err)
		_, _ = s.Run(ctx, strings.NewReader(script), database.ScriptOptions{})
		require.NoError(t, s.Close())
		var names []string
		require.NoError(t, filepath.WalkDir(account, func(name string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				names = append(names, strings.TrimSuffix(strings.TrimSuffix(d.Name(), "-wal"), "-shm"))
			}
			return err
		}))
		for _, name := range names {
			require.Contains(t, name, "one.sqlite")
		}
	})
}
