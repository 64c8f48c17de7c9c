package step_test

import (
	"context"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
	"tivset/internal/step"
)

// taken says of the first renames that something is there already: before it renames, as a server does where a job
// ended just now, or after, as a line does that was cut off when it had renamed.
type taken struct {
	files.FS
	times   int
	renames bool
}

func (t *taken) Rename(ctx context.Context, from, to string) error {
	if t.times == 0 {
		return t.FS.Rename(ctx, from, to)
	}
	t.times--
	if t.renames {
		if err := t.FS.Rename(ctx, from, to); err != nil {
			return err
		}
	}
	return &fs.PathError{Op: "rename", Path: to, Err: fs.ErrExist}
}

// A place whose mark is our own is claimed; one that was taken a moment ago is busy, as one is that another job has.
func TestClaimsWhatIsFreeAgain(t *testing.T) {
	g := newGround(t)
	own := g.in.Files
	claim := func(f files.FS) error {
		g.in.Files = f
		defer func() { g.in.Files = own }()
		c := step.ClaimOf(g.tools(&g.planned.Site), "chandlery.localhost/news", nil)
		if err := c.Do(ctx); err != nil {
			return err
		}
		return c.Undo(ctx)
	}
	err := claim(&taken{own, 1, false})
	assert.ErrorContains(t, err, "a moment ago")
	assert.True(t, fault.Of(err).Busy, "whoever works on many waits, and tries again")
	require.NoError(t, claim(&taken{own, 1, true}))
	require.NoError(t, g.in.SetMark(ctx, g.in.Store().Mark("chandlery.localhost/news"), hosting.Mark{
		Job: "20261125-080000-wxyz", Address: "chandlery.localhost/news", Who: "steward"}))
	err = claim(own)
	assert.ErrorContains(t, err, "another job is at work here")
	assert.Contains(t, fault.Of(err).Remedy, "steward")
}

// Whoever stood still while others ended the job, and then goes on with it, takes away what it set; a mark that others
// have set stays.
func TestWithdraws(t *testing.T) {
	g := newGround(t)
	before := g.all()
	late := step.ClaimOf(g.tools(&g.planned.Site), "chandlery.localhost/news", nil)
	require.NoError(t, late.Acquire(ctx, 2))
	assert.NotEqual(t, before, g.all())
	require.NoError(t, late.Withdraw(ctx, 2))
	assert.Equal(t, before, g.all())

	require.NoError(t, step.ClaimOf(g.tools(&g.planned.Site), "chandlery.localhost/news", nil).Do(ctx))
	held := g.all()
	late = step.ClaimOf(g.tools(&g.planned.Site), "chandlery.localhost/news", nil)
	require.NoError(t, late.Acquire(ctx, 2))
	require.NoError(t, late.Withdraw(ctx, 2))
	assert.Equal(t, held, g.all())
}
