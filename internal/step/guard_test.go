package step_test

import (
	"path"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/files"
	"tivset/internal/step"
	"tivset/internal/testing/sitetest"
)

// A line that is cut while a guarded page is sent leaves half of it where it is no page of the site; what somebody puts
// in the place of one that is guarded is never written over.
func TestGuardedPagesThatAreCutOff(t *testing.T) {
	g := newGround(t)
	before := g.w.Snapshot()
	cover := g.guard().Cover(step.In(g.record.Folder))
	require.NoError(t, cover.Prepare(ctx))
	require.NotEmpty(t, cover.Moves)
	half := path.Join(cover.Clean+"-fresh", "index.page")
	_, err := files.MkdirAll(ctx, g.in.Files, path.Dir(half), 0o700)
	require.NoError(t, err)
	require.NoError(t, files.Write(ctx, g.in.Files, half, []byte("{{/*"), 0o644))
	require.NoError(t, cover.Undo(ctx))
	sitetest.Same(t, before, g.w.Snapshot())

	cover = g.guard().Cover(step.In(g.record.Folder))
	require.NoError(t, cover.Prepare(ctx))
	require.NoError(t, cover.Do(ctx))
	mine := path.Join(g.record.Folder, "index.page")
	require.NoError(t, g.in.Files.Remove(ctx, mine))
	require.NoError(t, files.Write(ctx, g.in.Files, mine, []byte("mine"), 0o644))
	require.ErrorContains(t, cover.Undo(ctx), "come to be there again")
	text, err := files.Read(ctx, g.in.Files, mine, 100)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(text))
}
