package work_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/sitetest"
)

func TestResumeAndUndoOfOtherJobs(t *testing.T) {
	w := sitetest.Demo(t)
	ctx := context.Background()
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	before := w.Snapshot()
	resumed, err := w.Desk.Resume(ctx, done.Job)
	require.NoError(t, err, "it is at its end already")
	assert.Equal(t, done.Site.Address, resumed.Site.Address)
	_, err = w.Desk.Undo(ctx, done.Job)
	assert.Equal(t, fault.Usage, fault.Of(err).Kind)
	for _, id := range []string{"20260101-000000-abcd", "nonsense"} {
		_, err := w.Desk.Resume(ctx, id)
		assert.Equal(t, fault.Usage, fault.Of(err).Kind, id)
		_, err = w.Desk.Undo(ctx, id)
		assert.Equal(t, fault.Usage, fault.Of(err).Kind, id)
	}
	sitetest.Same(t, before, w.Snapshot())
	jobs, err := w.Desk.Jobs(ctx)
	require.NoError(t, err)
	require.Len(t, jobs, 1)
	assert.Equal(t, ledger.Done, jobs[0].Outcome)
	_, err = w.Book.Reveal(ctx, done.Site.Address)
	assert.NoError(t, err)
}
