package outbox_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/home"
	"tivset/internal/records/outbox"
)

var night = time.Date(2026, 12, 1, 2, 30, 0, 0, time.UTC)

func at(t *testing.T) (*outbox.Box, string) {
	t.Helper()
	folder := t.TempDir()
	return outbox.At(home.At(folder)), filepath.Join(folder, "state", "outbox")
}

// A letter waits until it is taken, longer each time, and is given up after five days.
func TestUntilItIsTaken(t *testing.T) {
	b, folder := at(t)
	require.NoError(t, b.Put(outbox.Letter{ID: "a", To: "x@quillmere.localhost", Begun: night, Text: "so"}))
	now, tries := night, 0
	clock := func() time.Time { return now }
	away := func(context.Context, outbox.Letter) error { tries++; return errors.New("no answer") }
	came := b.Send(t.Context(), clock, away)
	require.Len(t, came.Failed, 1)
	assert.ErrorContains(t, came.Failed[0], "x@quillmere.localhost could not be told: no answer; it waits")
	assert.Empty(t, b.Send(t.Context(), clock, away).Failed, "it is not tried at once again")
	for now.Before(night.Add(outbox.KeptFor)) {
		now = now.Add(time.Hour)
		b.Send(t.Context(), clock, away)
	}
	all, err := b.Letters()
	require.NoError(t, err)
	assert.Empty(t, all)
	assert.InDelta(t, 3+5*24/3, tries, 4, "tried more and more seldom")
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Empty(t, left)

	require.NoError(t, b.Put(outbox.Letter{ID: "b", To: "x@quillmere.localhost", Begun: now}))
	assert.Equal(t, 1, b.Send(t.Context(), clock, func(context.Context, outbox.Letter) error { return nil }).Sent)
	assert.Zero(t, b.Send(t.Context(), clock, away).Sent)
}

// Many that send at once send each letter once.
func TestManyThatSend(t *testing.T) {
	b, _ := at(t)
	const letters = 20
	for n := range letters {
		require.NoError(t, b.Put(outbox.Letter{ID: string(rune('a' + n)), Begun: night}))
	}
	var one sync.Mutex
	got := map[string]int{}
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			b.Send(t.Context(), time.Now, func(_ context.Context, l outbox.Letter) error {
				one.Lock()
				defer one.Unlock()
				got[l.ID]++
				return nil
			})
		})
	}
	group.Wait()
	assert.Len(t, got, letters)
	for id, n := range got {
		assert.Equal(t, 1, n, id)
	}
}

// A letter on which somebody writes is left alone, until its run is no more.
func TestWhatARunLeft(t *testing.T) {
	b, folder := at(t)
	done, err := b.Hold("run-1")
	require.NoError(t, err)
	require.NoError(t, b.Put(outbox.Letter{ID: "a", Run: "run-1", Draft: []byte(`{}`), Begun: night}))
	taken := func(context.Context, outbox.Letter) error { return nil }
	assert.Zero(t, b.Send(t.Context(), time.Now, taken).Sent)
	left, err := b.Left()
	require.NoError(t, err)
	assert.Empty(t, left)
	done()
	left, err = b.Left()
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Zero(t, b.Send(t.Context(), time.Now, taken).Sent, "whoever finds it ends it first")

	// What cannot be read is said, and holds up nothing.
	require.NoError(t, os.WriteFile(filepath.Join(folder, "odd.json"), []byte("{"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "other.json"), []byte(`{"id":"../../x"}`), 0o600))
	require.NoError(t, b.Put(outbox.Letter{ID: "b", Begun: night}))
	came := b.Send(t.Context(), time.Now, taken)
	assert.Equal(t, 1, came.Sent)
	require.Len(t, came.Failed, 1)
	assert.ErrorContains(t, came.Failed[0], "odd.json cannot be read")
	assert.ErrorContains(t, came.Failed[0], "is not what its name says")
}
