package hosting_test

import (
	"context"
	"io/fs"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting"
	"tivset/internal/testing/sitetest"
)

// opened opens the demo account.
func opened(t *testing.T) (*sitetest.World, *hosting.Account) {
	t.Helper()
	w := sitetest.Demo(t)
	a, err := w.Home.Account("quillmere")
	require.NoError(t, err)
	in, err := w.Hosting.Open(context.Background(), a)
	require.NoError(t, err)
	t.Cleanup(func() { _ = in.Close() })
	return w, in
}

// Of all who mark a place at once, one does; nobody's mark is taken by another,
// and nothing is left when it goes.
func TestOneMarkAtAPlace(t *testing.T) {
	w, in := opened(t)
	ctx, before := context.Background(), w.Snapshot()
	store := in.Store()
	name := store.Mark("lockside.localhost/journal")
	var won sync.Map
	var all sync.WaitGroup
	for _, job := range []string{"a", "b", "c", "d", "e", "f"} {
		all.Go(func() {
			err := in.SetMark(ctx, name, hosting.Mark{Job: job, Who: job + " on a machine", Since: time.Unix(0, 0).UTC()})
			if err == nil {
				won.Store(job, true)
			} else {
				assert.ErrorIs(t, err, fs.ErrExist)
			}
		})
	}
	all.Wait()
	m, err := in.ReadMark(ctx, name)
	require.NoError(t, err)
	n := 0
	won.Range(func(job, _ any) bool {
		n++
		assert.Equal(t, job, m.Job)
		return true
	})
	assert.Equal(t, 1, n)
	for _, job := range []string{"a", "b", "c", "d", "e", "f"} {
		if job != m.Job {
			require.NoError(t, in.DropMark(ctx, name, job, store.Busy(), store.Top()))
		}
	}
	still, err := in.ReadMark(ctx, name)
	require.NoError(t, err)
	assert.Equal(t, m, still, "others took only what they had begun to write")
	require.NoError(t, in.DropMark(ctx, name, m.Job, store.Busy(), store.Top()))
	require.NoError(t, in.DropMark(ctx, name, m.Job, store.Busy(), store.Top()), "twice is once")
	_, err = in.ReadMark(ctx, name)
	require.ErrorIs(t, err, fs.ErrNotExist)
	sitetest.Same(t, before, w.Snapshot())
}

// Every address has its own names in the store, and all lie below its top.
func TestTheStoreKeepsAddressesApart(t *testing.T) {
	_, in := opened(t)
	store := in.Store()
	seen := map[string]bool{}
	for _, address := range []string{"a.localhost", "a.localhost/b", "a.localhost:8080/b", "a.localhost/b/c"} {
		for _, name := range []string{store.Mark(address), store.Backups(address)} {
			assert.False(t, seen[name], name)
			seen[name] = true
			assert.Regexp(t, `^\.tivset/(busy|backups)/[^/]+$`, name)
		}
	}
	for _, name := range []string{store.Stage("j"), store.Aside("j"), store.TimersOf("j")} {
		assert.Regexp(t, `^\.tivset/(stage|aside|timers)/j$`, name)
	}
}
