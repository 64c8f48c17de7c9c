package fault_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/fault"
)

func TestFault(t *testing.T) {
	e := fault.New(fault.NeedsConfirmation, "in the way", "web", "move it").Wrap(fs.ErrExist)
	wrapped := fmt.Errorf("install: %w", e)
	assert.ErrorIs(t, wrapped, fs.ErrExist)
	assert.Equal(t, "in the way: web: file already exists", e.Error())
	assert.Same(t, e, fault.Of(wrapped))
	assert.Equal(t, fault.Failed, fault.Of(errors.New("x")).Kind)
	assert.Zero(t, fault.Of(nil).Kind)
}

func TestJoin(t *testing.T) {
	assert.NoError(t, fault.Join("x", "", nil))
	err := fault.Join("bad", "mend", []fault.Problem{{ID: "title", What: fault.Needed},
		{ID: "rows", What: "no number", Remedy: "Use digits."}})
	assert.Equal(t, []string{"title"}, fault.Of(err).Missing)
	assert.Equal(t, "rows: no number. Use digits.", fault.Of(err).Problems[1].String())
}

// Only a Ctrl-C is called so: an error of its own that comes beside it stays.
func TestInterrupted(t *testing.T) {
	going, stopped := context.Background(), func() context.Context {
		ctx, stop := context.WithCancel(context.Background())
		stop()
		return ctx
	}()
	canceled := fmt.Errorf("look at the site: %w", context.Canceled)
	got := fault.Of(fault.WasInterrupted(stopped, canceled))
	assert.Equal(t, "interrupted", got.What)
	assert.NotEmpty(t, got.Remedy)
	assert.Equal(t, fault.Failed, got.Kind)
	refused := fault.New(fault.NeedsConfirmation, "not reached", "", "").Wrap(context.Canceled)
	assert.Equal(t, fault.NeedsConfirmation, fault.Of(fault.WasInterrupted(stopped, refused)).Kind, "the exit code stays")
	assert.Equal(t, canceled, fault.WasInterrupted(going, canceled), "nobody ended it")
	assert.Equal(t, fs.ErrExist, fault.WasInterrupted(stopped, fs.ErrExist))
	assert.NoError(t, fault.WasInterrupted(stopped, nil))
}
