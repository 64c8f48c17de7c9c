package web_test

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/web"
)

// A server that has too many visits is asked again with the same, when it says.
func TestTooManyVisits(t *testing.T) {
	visits, pause := 0, "0"
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if visits++; visits < 3 {
			w.Header().Set("Retry-After", pause)
			w.WriteHeader(http.StatusTooManyRequests)
			return
		}
		body, _ := io.ReadAll(r.Body)
		_, _ = w.Write(body)
	}))
	defer server.Close()
	v, told := web.NewVisitor(nil), 0
	v.Crowded = func() { told++ }
	page, err := v.Post(context.Background(), server.URL, url.Values{"title": {"Lockside"}})
	require.NoError(t, err)
	assert.Equal(t, []any{3, 200, "title=Lockside"}, []any{visits, page.Status, string(page.Body)})
	assert.Equal(t, 2, told)

	visits, pause = 0, "3600"
	began := time.Now()
	page, err = web.NewVisitor(nil).Get(context.Background(), server.URL)
	require.NoError(t, err)
	assert.Equal(t, []any{1, 429}, []any{visits, page.Status}, "an hour is not waited for")
	assert.Less(t, time.Since(began), 5*time.Second)
}
