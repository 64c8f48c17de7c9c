package mariadb_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

func openFile(t *testing.T, name string) *os.File {
	t.Helper()
	f, err := os.Open(name)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return f
}
