package web_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/web"
)

// A pass is shown below its address only, whatever leads there, and beside the site's own cookies.
func TestAPassIsShownBelowItsAddress(t *testing.T) {
	mux := http.NewServeMux()
	server := httptest.NewServer(mux)
	defer server.Close()
	says := func(w http.ResponseWriter, r *http.Request) {
		http.SetCookie(w, &http.Cookie{Name: "own", Value: "1", Path: "/"})
		_, _ = fmt.Fprint(w, r.Header.Get("Cookie"))
	}
	mux.HandleFunc("/talk/", says)
	mux.HandleFunc("/", says)
	for from, to := range map[string]string{"/away": "/talk/again", "/talk/out": "/other"} {
		mux.HandleFunc(from, func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, to, http.StatusFound) })
	}
	ctx := web.Bringing(context.Background(), web.Pass{Below: server.URL + "/talk/", Name: "pass", Secret: "s3"})
	v := web.NewVisitor(nil)
	for _, ask := range []struct{ path, want string }{
		{"/talk/", "pass=s3"}, {"/talk", "own=1; pass=s3"}, {"/talk/page.php?a=b", "own=1; pass=s3"},
		{"/away", "own=1; pass=s3"}, {"/", "own=1"}, {"/talkative", "own=1"}, {"/talk/out", "own=1"},
	} {
		page, err := v.Get(ctx, server.URL+ask.path)
		require.NoError(t, err)
		if ask.path != "/talk" { // the server leads from there
			assert.Equal(t, ask.want, string(page.Body), ask.path)
		}
	}
	page, err := web.NewVisitor(nil).Get(context.Background(), server.URL+"/talk/")
	require.NoError(t, err)
	assert.Empty(t, string(page.Body))
}
