package fetch

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A server that files are fetched from cannot send on to where it is not encrypted, nor into the network around.
func TestRedirects(t *testing.T) {
	asked := 0
	plain := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	t.Cleanup(plain.Close)
	to := plain.URL
	secured := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/here" {
			return
		}
		http.Redirect(w, r, to, http.StatusFound)
	}))
	t.Cleanup(secured.Close)
	get := func() error {
		body, _, err := Get(t.Context(), secured.Client(), secured.URL, "", time.Second)
		if err == nil {
			err = body.Close()
		}
		return err
	}
	assert.ErrorContains(t, get(), "which is not encrypted")
	to = "file:///etc/passwd"
	assert.ErrorContains(t, get(), "no address of the web")
	to = "/here"
	assert.NoError(t, get(), "within one network it may lead on")
	assert.Zero(t, asked)

	check := Careful(http.DefaultClient).CheckRedirect
	of := func(address string) *http.Request {
		u, err := url.Parse(address)
		require.NoError(t, err)
		return (&http.Request{URL: u}).WithContext(context.Background())
	}
	for _, address := range []string{"https://127.0.0.1/", "https://10.0.0.1/", "https://192.168.1.1/", "https://[::1]/",
		"https://169.254.169.254/latest", "https://[fd00::1]/", "https://localhost/", "https://0.0.0.0/"} {
		assert.ErrorContains(t, check(of(address), []*http.Request{of("https://192.0.2.1/a")}), "inside of this network",
			address)
	}
	assert.NoError(t, check(of("https://198.51.100.1/"), []*http.Request{of("https://192.0.2.1/a")}))
	assert.True(t, private(netip.MustParseAddr("::ffff:127.0.0.1")))
}
