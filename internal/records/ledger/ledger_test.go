package ledger_test

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/ledger"
	"tivset/internal/records/ledger/ledgertest"
)

func open(t *testing.T, file string) *ledger.SQLite {
	t.Helper()
	l, err := ledger.Open(context.Background(), file)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	return l
}

func TestLedger(t *testing.T) {
	file := filepath.Join(t.TempDir(), "in/ledger.db")
	ledgertest.Run(t, func(t *testing.T) ledger.Ledger { return open(t, file) })
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
}

func TestNewerFormat(t *testing.T) {
	file := filepath.Join(t.TempDir(), "ledger.db")
	require.NoError(t, open(t, file).SetFormatForTest(9))
	_, err := ledger.Open(context.Background(), file)
	assert.ErrorContains(t, err, "format 9")
}

// A ledger of before there were redirects has them afterwards, and keeps what it had.
func TestOlderFormat(t *testing.T) {
	ctx, file := context.Background(), filepath.Join(t.TempDir(), "ledger.db")
	l := open(t, file)
	require.NoError(t, l.PutSite(ctx, ledger.Site{Address: "chandlery.localhost"}))
	require.NoError(t, l.BeforeRedirectsForTest())
	require.NoError(t, l.Close())
	l = open(t, file)
	all, err := l.Redirects(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)
	require.NoError(t, l.PutRedirect(ctx, ledger.Redirect{Address: "lockside.localhost/b", To: "http://x/"}))
	require.NoError(t, l.PutRedirect(ctx, ledger.Redirect{Address: "lockside.localhost/b", To: "http://y/"}))
	all, err = l.Redirects(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "http://y/", all[0].To)
	require.NoError(t, l.DropRedirect(ctx, "lockside.localhost/b"))
	addresses, err := l.Addresses(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"chandlery.localhost"}, addresses)
}
