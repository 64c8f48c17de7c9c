package cli

import (
	"errors"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
)

// A table of results that is not whole is never taken for one that is.
func TestResultsThatCannotBeWritten(t *testing.T) {
	a := &App{World: World{Env: func(string) string { return "" }, Now: time.Now, Err: io.Discard}}
	a.Streams = a.World.Streams()
	full := errors.New("no space left on device")
	assert.NoError(t, a.unwritten(nil, nil))
	for _, ended := range []error{nil, Quiet(int(fault.Failed))} {
		var how *Silent
		require.ErrorAs(t, a.unwritten(full, ended), &how)
		assert.Equal(t, int(fault.Incomplete), how.Code)
	}
	other := fault.New(fault.Usage, "x", "", "")
	assert.Equal(t, error(other), a.unwritten(full, other))
	assert.Nil(t, a.unwritten(nil, nil))
}
