package webhook_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/notify/webhook"
)

// What comes is signed as the specification has it; whoever answers otherwise, or sends on, has not taken it.
func TestPost(t *testing.T) {
	at := time.Unix(1_795_000_000, 0)
	key := webhook.NewKey()
	assert.NotEqual(t, key, webhook.NewKey())
	var got *http.Request
	var body []byte
	answer := http.StatusNoContent
	there := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = r
		body, _ = io.ReadAll(r.Body)
		w.Header().Set("Location", "https://elsewhere.localhost/")
		w.WriteHeader(answer)
	}))
	t.Cleanup(there.Close)
	send := func(to string) error {
		return webhook.Post(t.Context(), there.Client(), to, key, "a-1", at, []byte(`{"id":"a-1"}`))
	}
	require.NoError(t, send(there.URL+"/told"))
	assert.Equal(t, []string{"a-1", "1795000000", "application/json"}, []string{got.Header.Get("webhook-id"),
		got.Header.Get("webhook-timestamp"), got.Header.Get("Content-Type")})
	secret, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(key, "whsec_"))
	require.NoError(t, err)
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte("a-1.1795000000." + string(body)))
	assert.Equal(t, "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)), got.Header.Get("webhook-signature"))

	for _, answer = range []int{http.StatusFound, http.StatusTooManyRequests, http.StatusInternalServerError} {
		assert.ErrorContains(t, send(there.URL), http.StatusText(answer))
	}
	assert.ErrorContains(t, send("http://127.0.0.1:1/"), "no https address")
	assert.Error(t, webhook.Post(t.Context(), http.DefaultClient, there.URL, key, "a", at, nil), "a certificate of nobody")
	assert.Error(t, webhook.Post(t.Context(), there.Client(), there.URL, "whsec_!", "a", at, nil))
}

// The example of the specification.
func TestSign(t *testing.T) {
	got, err := webhook.Sign("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw", "msg_p5jXN8AQM9LWM0D4loKWxJek",
		time.Unix(1614265330, 0), []byte(`{"test": 2432232314}`))
	require.NoError(t, err)
	assert.Equal(t, "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=", got)
}
