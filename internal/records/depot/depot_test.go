package depot_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/files/local"
	"tivset/internal/records/depot"
	"tivset/internal/records/depot/depottest"
)

func TestHere(t *testing.T) { depottest.Suite(t, depot.Here(), t.TempDir()) }

func TestInFiles(t *testing.T) {
	f, err := local.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	depottest.Suite(t, depot.In(f, ".tivset"), ".tivset")
	ctx := context.Background()
	d := depot.In(f, ".tivset")
	require.NoError(t, d.Remove(ctx, ".tivset/backups/shop/x"))
	_, err = f.Stat(ctx, ".tivset")
	assert.Error(t, err, "folders that are empty go, the depot's own too")
	_, err = f.Stat(ctx, ".")
	assert.NoError(t, err, "and none above it")
}
