// Package fetch gets files over https. What comes is not trusted here: who asks
// compares it with a checksum or a signature.
package fetch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
)

// ErrSame says that a file is still the one whose tag was given.
var ErrSame = errors.New("not changed")

// Get opens what an address has, for no longer than atMost in all, and gives its tag: its
// ETag, or its date where it has none (RFC 9110). With the tag of a copy that is known,
// ErrSame where it is still that.
func Get(ctx context.Context, client *http.Client, address, tag string, atMost time.Duration) (io.ReadCloser, string,
	error) {
	ctx, cancel := context.WithTimeout(ctx, atMost)
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		cancel()
		return nil, "", err
	}
	switch {
	case strings.HasSuffix(tag, `"`):
		request.Header.Set("If-None-Match", tag)
	case tag != "":
		request.Header.Set("If-Modified-Since", tag)
	}
	answer, err := Careful(client).Do(request)
	if err != nil {
		cancel()
		return nil, "", err
	}
	switch answer.StatusCode {
	case http.StatusOK:
		if tag = answer.Header.Get("ETag"); tag == "" {
			tag = answer.Header.Get("Last-Modified")
		}
		return &closing{answer.Body, cancel}, tag, nil
	case http.StatusNotModified:
		err = ErrSame
	default:
		err = fmt.Errorf("the server answered %s", answer.Status)
	}
	answer.Body.Close()
	cancel()
	return nil, "", err
}

// closing ends the deadline's timer together with the body.
type closing struct {
	io.ReadCloser
	cancel context.CancelFunc
}

func (c *closing) Close() error {
	defer c.cancel()
	return c.ReadCloser.Close()
}
