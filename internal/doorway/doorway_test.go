package doorway_test

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/doorway"
)

func get(t *testing.T, address string) (int, string) {
	t.Helper()
	r, err := http.Get(address)
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return r.StatusCode, string(text)
}

func TestOpensOnce(t *testing.T) {
	d, err := doorway.Open("http://a.localhost/in", url.Values{"name": {"w"}, "secret": {`p"<&`}})
	require.NoError(t, err)
	status, text := get(t, d.Address+"x")
	assert.Equal(t, 404, status)
	assert.NotContains(t, text, "secret")
	status, text = get(t, d.Address)
	assert.Equal(t, 200, status)
	assert.Contains(t, text, `action="http://a.localhost/in"`)
	assert.Contains(t, text, `name="secret" value="p&#34;&lt;&amp;"`)
	status, text = get(t, d.Address)
	assert.Equal(t, 410, status)
	assert.NotContains(t, text, "secret")
	require.NoError(t, d.Wait(context.Background(), time.Second))
	_, err = http.Get(d.Address)
	assert.Error(t, err, "it is gone")
}

func TestNobodyComes(t *testing.T) {
	d, err := doorway.Open("http://a.localhost/in", nil)
	require.NoError(t, err)
	assert.ErrorIs(t, d.Wait(context.Background(), 10*time.Millisecond), doorway.ErrUnused)
	_, err = http.Get(d.Address)
	assert.Error(t, err)
}
