package orders

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/work/requests"
	"tivset/internal/work/restore"
)

// A call that cannot go to the queue leaves no file open.
func TestFilesOfACallThatCannotGo(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("open files are counted in /proc")
	}
	file := filepath.Join(t.TempDir(), "answers.yaml")
	require.NoError(t, os.WriteFile(file, []byte("x: y"), 0o600))
	opened := func() int {
		all, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		return len(all)
	}
	before := opened()
	for _, second := range []string{"-", file + ".none"} {
		_, open, err := packed(&requests.Restore{Request: restore.Request{From: file, Identity: second}})
		assert.Equal(t, fault.Usage, fault.Of(err).Kind)
		assert.Empty(t, open)
	}
	assert.Equal(t, before, opened())
}
