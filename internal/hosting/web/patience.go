package web

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"
)

// How long an answer is waited for: until it begins, and from each piece of it to the next. A host that was slow gets
// more time, for it may be busy.
var (
	usually = 30 * time.Second
	atMost  = 5 * time.Minute
)

// slower is how many times as long as a host's slowest answer so far the next one may take.
const slower = 4

type patienceKey struct{}

// Patient has visits with a context wait longer for an answer to begin: what is asked for does much work.
func Patient(ctx context.Context, most time.Duration) context.Context {
	return context.WithValue(ctx, patienceKey{}, most)
}

// Slow is the error of an answer that did not come, or did not go on, in its time.
type Slow struct{ Limit time.Duration }

func (s *Slow) Error() string {
	return fmt.Sprintf("no answer within %s", s.Limit.Round(time.Second/10))
}

// Timeout says that it is one (net.Error).
func (*Slow) Timeout() bool { return true }

// slowest is the time that each host's slowest answer took to begin.
var slowest = struct {
	sync.Mutex
	of map[string]time.Duration
}{of: map[string]time.Duration{}}

// took notes how long a host's answer took to begin.
func took(host string, d time.Duration) {
	slowest.Lock()
	defer slowest.Unlock()
	slowest.of[host] = max(slowest.of[host], d)
}

// limitOf is for how long an answer of a host's may take to begin.
func limitOf(ctx context.Context, host string) time.Duration {
	wanted, _ := ctx.Value(patienceKey{}).(time.Duration)
	slowest.Lock()
	defer slowest.Unlock()
	return max(usually, wanted, min(atMost, slower*slowest.of[host]))
}

// patient gives up requests whose answers do not come, or do not go on.
type patient struct{ through http.RoundTripper }

// RoundTrip implements http.RoundTripper.
func (p patient) RoundTrip(r *http.Request) (*http.Response, error) {
	ctx, cancel := context.WithCancelCause(r.Context())
	limit := limitOf(r.Context(), r.URL.Host)
	watch := time.AfterFunc(limit, func() { cancel(&Slow{limit}) })
	begun := time.Now()
	answer, err := p.through.RoundTrip(r.WithContext(ctx))
	if err != nil {
		watch.Stop()
		defer cancel(nil)
		return nil, because(ctx, err)
	}
	took(r.URL.Host, time.Since(begun))
	watch.Reset(usually)
	answer.Body = &lively{ReadCloser: answer.Body, ctx: ctx, watch: watch, end: func() { cancel(nil) }}
	return answer, nil
}

// because gives why a request was given up, where it was.
func because(ctx context.Context, err error) error {
	if slow, is := context.Cause(ctx).(*Slow); is && err != nil {
		return slow
	}
	return err
}

// lively is the body of an answer that may take as long as it goes on.
type lively struct {
	io.ReadCloser
	ctx   context.Context
	watch *time.Timer
	end   func()
}

// Read implements io.Reader.
func (l *lively) Read(into []byte) (int, error) {
	n, err := l.ReadCloser.Read(into)
	if n > 0 && l.ctx.Err() == nil {
		l.watch.Reset(usually)
	}
	if err != nil && err != io.EOF {
		err = because(l.ctx, err)
	}
	return n, err
}

// Close implements io.Closer.
func (l *lively) Close() error {
	l.watch.Stop()
	defer l.end()
	return l.ReadCloser.Close()
}
