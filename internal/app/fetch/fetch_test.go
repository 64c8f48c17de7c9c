package fetch_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/fetch"
)

var text = bytes.Repeat([]byte("low tide, high tide. "), 5000)

// server gives the text, each time no more than so many bytes of it.
type server struct {
	text   []byte
	cut    int
	deaf   bool // it knows no ranges
	ranges []string
	asked  atomic.Int32
}

func (s *server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.asked.Add(1)
	s.ranges = append(s.ranges, r.Header.Get("Range"))
	if s.deaf {
		r.Header.Del("Range")
	}
	if s.cut > 0 {
		w = &cutting{w, s.cut}
	}
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(s.text))
}

type cutting struct {
	http.ResponseWriter
	left int
}

func (c *cutting) Write(p []byte) (int, error) {
	if c.left -= len(p); c.left <= 0 {
		panic(http.ErrAbortHandler)
	}
	return c.ResponseWriter.Write(p)
}

func wanted(t *testing.T, s *server) (fetch.Asking, fetch.Wanted) {
	t.Helper()
	at := httptest.NewServer(s)
	t.Cleanup(at.Close)
	sum := sha256.Sum256(text)
	return fetch.At(at.Client(), at.URL), fetch.Wanted{Name: filepath.Join(t.TempDir(), "file"),
		SHA256: strings.ToUpper(hex.EncodeToString(sum[:])), Most: 1 << 20}
}

func there(t *testing.T, w fetch.Wanted) {
	t.Helper()
	got, err := os.ReadFile(w.Name)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(text, got))
	_, err = os.Stat(w.Name + ".part")
	require.ErrorIs(t, err, os.ErrNotExist)
}

// A line that ends is taken up where it ended, also by a later call; who listens hears how
// far it is, of how much.
func TestDownloadsGoOn(t *testing.T) {
	s := &server{text: text, cut: 34_000}
	ask, w := wanted(t, s)
	var last, of int64
	ctx := fetch.Heard(context.Background(), func(n, all int64) { last, of = n, all })
	err := fetch.Whole(ctx, ask, w)
	require.Error(t, err)
	info, err := os.Stat(w.Name + ".part")
	require.NoError(t, err)
	assert.Positive(t, info.Size())
	s.cut = 0
	require.NoError(t, fetch.Whole(ctx, ask, w))
	there(t, w)
	assert.Equal(t, int64(len(text)), last)
	assert.Equal(t, int64(len(text)), of)
	assert.Contains(t, s.ranges[len(s.ranges)-1], "bytes=")
	asked := s.asked.Load()
	require.NoError(t, fetch.Whole(ctx, ask, w))
	assert.Equal(t, asked, s.asked.Load(), "what is there is not asked for")
}

// What was begun of another file is not gone on with for long, nor where the server knows
// no ranges, nor where there is less than was begun.
func TestWhatWasBegunOfAnother(t *testing.T) {
	for name, c := range map[string]struct {
		part []byte
		deaf bool
	}{
		"another":   {[]byte("something else"), false},
		"no ranges": {text[:5000], true},
		"longer":    {bytes.Repeat(text, 2), false},
	} {
		s := &server{text: text, deaf: c.deaf}
		ask, w := wanted(t, s)
		require.NoError(t, os.WriteFile(w.Name+".part", c.part, 0o600), name)
		require.NoError(t, fetch.Whole(context.Background(), ask, w), name)
		there(t, w)
	}
}

// Another file than the one that is wanted, one that never ends, and none at all are
// refused, and nothing takes its place.
func TestWhatIsNotWanted(t *testing.T) {
	ask, w := wanted(t, &server{text: text[1:]})
	require.ErrorIs(t, fetch.Whole(context.Background(), ask, w), fetch.ErrOther)
	ask, w = wanted(t, &server{text: bytes.Repeat(text, 20)})
	require.ErrorContains(t, fetch.Whole(context.Background(), ask, w), "more than the 1048576 bytes")
	at := httptest.NewServer(http.NotFoundHandler())
	defer at.Close()
	require.ErrorContains(t, fetch.Whole(context.Background(), fetch.At(at.Client(), at.URL), w), "404 Not Found")
	_, err := os.Stat(w.Name)
	require.ErrorIs(t, err, os.ErrNotExist)
}

// Several that want the same file at once fetch it once.
func TestOneFetchesForAll(t *testing.T) {
	s := &server{text: text}
	ask, w := wanted(t, s)
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() { assert.NoError(t, fetch.Whole(context.Background(), ask, w)) })
	}
	all.Wait()
	there(t, w)
	assert.Equal(t, int32(1), s.asked.Load())
}
