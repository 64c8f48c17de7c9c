package web

import (
	"cmp"
	"io"
	"net/http"
	"sync"
)

// AtOnce is how many requests all visitors together have under way to one host: a
// shared one has few processes for a customer, and its other visitors wait too.
const AtOnce = 4

// limited lets requests through as far as their host has fewer than AtOnce.
type limited struct {
	through     http.RoundTripper
	connections Connections
}

// slots are those of each host, of the whole program.
var slots = struct {
	sync.Mutex
	of map[string]chan struct{}
}{of: map[string]chan struct{}{}}

func slotsOf(host string) chan struct{} {
	slots.Lock()
	defer slots.Unlock()
	if slots.of[host] == nil {
		slots.of[host] = make(chan struct{}, AtOnce)
	}
	return slots.of[host]
}

// RoundTrip implements http.RoundTripper. A slot is free again when the answer's
// body is closed.
func (l *limited) RoundTrip(r *http.Request) (*http.Response, error) {
	host := r.URL.Host
	if r.URL.Port() == "" {
		host += map[string]string{"http": ":80", "https": ":443"}[r.URL.Scheme]
	}
	slot := slotsOf(cmp.Or(l.connections[host], host))
	select {
	case slot <- struct{}{}:
	case <-r.Context().Done():
		return nil, r.Context().Err()
	}
	answer, err := l.through.RoundTrip(r)
	if err != nil {
		<-slot
		return nil, err
	}
	answer.Body = &freeing{answer.Body, sync.OnceFunc(func() { <-slot })}
	return answer, nil
}

type freeing struct {
	io.ReadCloser
	free func()
}

func (f *freeing) Close() error {
	defer f.free()
	return f.ReadCloser.Close()
}
