package command

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

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

// A table of results that is not whole is never taken for one that is.
func TestResultsThatCannotBeWritten(t *testing.T) {
	a := &app{world: World{Env: func(string) string { return "" }, Now: time.Now, Err: io.Discard}}
	a.streams = a.world.streams()
	full := errors.New("no space left on device")
	assert.NoError(t, a.unwritten(nil, nil))
	for _, ended := range []error{nil, &silent{int(fault.Failed)}} {
		var how *silent
		require.ErrorAs(t, a.unwritten(full, ended), &how)
		assert.Equal(t, int(fault.Incomplete), how.code)
	}
	other := fault.New(fault.Usage, "x", "", "")
	assert.Equal(t, error(other), a.unwritten(full, other))
	assert.Nil(t, a.unwritten(nil, nil))
}
