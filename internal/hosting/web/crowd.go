package web

import (
	"net/http"
	"strconv"
	"time"
)

// longestPause is for how long a server that asks for fewer visits is waited for at once.
const longestPause = 8 * time.Second

// unhurried asks a server again that had too many visits (429, RFC 6585, 4): it did nothing
// with what it was asked for.
type unhurried struct {
	through http.RoundTripper
	of      *Visitor
}

// RoundTrip implements http.RoundTripper.
func (u unhurried) RoundTrip(r *http.Request) (*http.Response, error) {
	for tries := 0; ; tries++ {
		answer, err := u.through.RoundTrip(r)
		if err != nil || answer.StatusCode != http.StatusTooManyRequests || tries == 3 ||
			r.Body != nil && r.GetBody == nil {
			return answer, err
		}
		if u.of.Crowded != nil {
			u.of.Crowded()
		}
		pause := time.Second << tries
		if said, err := strconv.Atoi(answer.Header.Get("Retry-After")); err == nil { // RFC 9110, 10.2.3
			pause = time.Duration(said) * time.Second
		}
		if pause > longestPause {
			return answer, nil
		}
		_ = answer.Body.Close()
		select {
		case <-r.Context().Done():
			return nil, r.Context().Err()
		case <-time.After(pause):
		}
		r = r.Clone(r.Context())
		if r.GetBody != nil {
			if r.Body, err = r.GetBody(); err != nil {
				return nil, err
			}
		}
	}
}
