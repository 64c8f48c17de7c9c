package command

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/ledger"
)

// What a worker that is gone had ended of an order counts as done, but for the copy of a
// rehearsal: the update that was ordered is still to come.
func TestEndOf(t *testing.T) {
	w, _, _ := twoSites(t)
	a := &app{world: World{Env: func(name string) string {
		return map[string]string{"TIVSET_HOME": w.Demo.Folder}[name]
	}, Now: time.Now}}
	a.streams = a.world.streams()
	now := time.Now()
	put := func(id string, order int64, what, address, outcome string) {
		t.Helper()
		require.NoError(t, w.Book.Ledger.PutJob(context.Background(), ledger.Job{ID: id, Order: order, What: what,
			Address: address, Outcome: outcome, Started: now, Ended: &now}))
	}
	put("20261123-080000-aaaa", 1, "install", "lockside.localhost/x", "installed")
	put("20261123-080000-aaab", 2, "install", "lockside.localhost/x", "undone")
	put("20261123-080000-aaac", 3, "copy", "lockside.localhost/rehearsal-0123456789abcdef", "copied")
	for order, want := range map[int64]bool{1: true, 2: false, 3: false, 4: false} {
		done, err := a.endOf(context.Background(), order)
		require.NoError(t, err)
		assert.Equal(t, want, done, order)
	}
}
