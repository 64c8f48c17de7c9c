// Package webhook tells an https address of an event, signed so that whoever gets it can tell that it is ours and not
// an old one sent again. The form of the signature is that of the Standard Webhooks specification, 1.0.0: the headers
// webhook-id, webhook-timestamp (seconds since 1970) and webhook-signature, “v1,” with the HMAC-SHA256 of
// ID.TIMESTAMP.BODY in base64.
package webhook

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// limit is how long an address may take to answer.
const limit = 15 * time.Second

// keyPrefix marks a key as one of webhooks.
const keyPrefix = "whsec_"

// NewKey makes a key: 32 random bytes in base64, marked as what it is.
func NewKey() string {
	var key [32]byte
	_, _ = rand.Read(key[:]) // never fails
	return keyPrefix + base64.StdEncoding.EncodeToString(key[:])
}

// Sign gives the signature of a body that is sent at a moment.
func Sign(key, id string, at time.Time, body []byte) (string, error) {
	secret, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(key, keyPrefix))
	if err != nil || len(secret) < sha256.Size/2 {
		return "", errors.New("the key that signs what is sent is none")
	}
	mac := hmac.New(sha256.New, secret)
	fmt.Fprintf(mac, "%s.%d.", id, at.Unix())
	_, _ = mac.Write(body) // a hash takes everything
	return "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil)), nil
}

// plain says what is wrong with an address in few words: who asks names it.
func plain(err error) error {
	var asked *url.Error
	if errors.As(err, &asked) {
		err = asked.Err
	}
	var unknown *net.DNSError
	if errors.As(err, &unknown) && unknown.IsNotFound {
		return fmt.Errorf("no server has the name %s", unknown.Name)
	}
	return err
}

// Post sends an event. Any answer but 2xx is an error; an address that sends on to another is not followed, for what
// is sent was meant for it alone.
func Post(ctx context.Context, client *http.Client, to, key, id string, at time.Time, body []byte) error {
	signature, err := Sign(key, id, at, body)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(body))
	if err != nil {
		return err
	}
	if r.URL.Scheme != "https" {
		return fmt.Errorf("%s is no https address", to)
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Webhook-Id", id)
	r.Header.Set("Webhook-Timestamp", strconv.FormatInt(at.Unix(), 10))
	r.Header.Set("Webhook-Signature", signature)
	alone := *client
	alone.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	answer, err := alone.Do(r)
	if err != nil {
		return plain(err)
	}
	_, _ = io.CopyN(io.Discard, answer.Body, 1<<16) // so that the line can be used again
	if err := answer.Body.Close(); err != nil {
		return err
	}
	if answer.StatusCode/100 != 2 {
		return fmt.Errorf("%s answered %s", r.URL.Redacted(), answer.Status)
	}
	return nil
}
