package onetimepage_test

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/url"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/onetimepage"
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
	d, err := onetimepage.Open(func(_ context.Context, agent string) (onetimepage.Form, error) {
		assert.NotEmpty(t, agent)
		return onetimepage.Form{Action: "http://a.localhost/in", Values: url.Values{"name": {"w"}, "secret": {`p"<&`}}}, nil
	})
	require.NoError(t, err)
	file, err := d.File(t.TempDir())
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode(), "whoever reads the browser's words cannot read it")
	leading, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(leading), d.Address)
	assert.NotContains(t, string(leading), "secret")
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
	assert.NoFileExists(t, file)
}

func TestNothingToSend(t *testing.T) {
	d, err := onetimepage.Open(func(context.Context, string) (onetimepage.Form, error) {
		return onetimepage.Form{}, errors.New("no way in")
	})
	require.NoError(t, err)
	status, text := get(t, d.Address)
	assert.Equal(t, 502, status)
	assert.NotContains(t, text, "no way in")
	assert.ErrorContains(t, d.Wait(context.Background(), time.Second), "no way in")
}

func TestNobodyComes(t *testing.T) {
	d, err := onetimepage.Open(nil)
	require.NoError(t, err)
	assert.ErrorIs(t, d.Wait(context.Background(), 10*time.Millisecond), onetimepage.ErrUnused)
	_, err = http.Get(d.Address)
	assert.Error(t, err)
}
