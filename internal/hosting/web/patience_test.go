package web

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An answer that goes on is waited for, however long it takes; one that does not begin, or stops, is given up. A host
// that was slow, and who asks for much, get more time.
func TestSlowAnswers(t *testing.T) {
	usually, atMost = 200*time.Millisecond, 5*time.Second
	t.Cleanup(func() { usually, atMost = 30*time.Second, 5*time.Minute })
	drip := func(w http.ResponseWriter, r *http.Request, pieces int, pause time.Duration) {
		for range pieces {
			select {
			case <-r.Context().Done():
			case <-time.After(pause):
			}
			_, _ = fmt.Fprint(w, "x")
			_ = http.NewResponseController(w).Flush()
		}
	}
	serve := func(pieces int, pause time.Duration) string {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			drip(w, r, pieces, pause)
		}))
		t.Cleanup(server.Close)
		return server.URL
	}
	ctx, slow := context.Background(), new(Slow)
	page, err := NewVisitor(nil).Get(ctx, serve(6, 100*time.Millisecond))
	require.NoError(t, err)
	assert.Len(t, page.Body, 6, "it took three times as long as an answer may take to begin")

	_, err = NewVisitor(nil).Get(ctx, serve(1, 600*time.Millisecond))
	require.ErrorAs(t, err, &slow)
	assert.EqualError(t, err, "no answer within 200ms")
	page, err = NewVisitor(nil).Get(Patient(ctx, 2*time.Second), serve(1, 600*time.Millisecond))
	require.NoError(t, err, "who asks for much waits")
	assert.Len(t, page.Body, 1)

	stops := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		drip(w, r, 1, 0)
		drip(w, r, 1, 700*time.Millisecond)
	}))
	t.Cleanup(stops.Close)
	_, err = NewVisitor(nil).Get(ctx, stops.URL)
	require.ErrorAs(t, err, &slow)

	pauses := []time.Duration{150 * time.Millisecond, 400 * time.Millisecond, 1200 * time.Millisecond}
	busier := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		pause := pauses[0]
		pauses = pauses[1:]
		drip(w, r, 1, pause)
	}))
	t.Cleanup(busier.Close)
	for range 3 {
		_, err = NewVisitor(nil).Get(ctx, busier.URL)
		require.NoError(t, err, "a busy host gets four times what it took")
	}
}
