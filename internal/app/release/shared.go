package release

import (
	"context"
	"errors"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
)

// shared are archives that were fetched and verified in this run: of many sites with the
// same release the first does the work, and those that come meanwhile wait for it.
type shared struct {
	flight singleflight.Group
	mu     sync.Mutex
	seen   map[string]seen
}

// seen is how a file looked when it was verified.
type seen struct {
	name string
	size int64
	at   time.Time
}

// get gives a release's archive by have, or as it was had before and has not changed since.
func (s *shared) get(ctx context.Context, folder string, k catalogue.Entry, r *kit.Release,
	have func() (string, error)) (string, error) {
	key := strings.Join([]string{folder, k.App, r.Release, r.Archive.SHA256}, "\x00")
	if name := s.still(key); name != "" {
		return name, nil
	}
	name, err, others := s.flight.Do(key, func() (any, error) {
		if name := s.still(key); name != "" {
			return name, nil
		}
		name, err := have()
		if err == nil && r.Archive.Packages == nil { // what those are the archive decides, each time
			s.note(key, name)
		}
		return name, err
	})
	if others && errors.Is(err, context.Canceled) && ctx.Err() == nil { // who was asked for it went
		return have()
	}
	return name.(string), err
}

func (s *shared) still(key string) string {
	s.mu.Lock()
	was, is := s.seen[key]
	s.mu.Unlock()
	if !is {
		return ""
	}
	if info, err := os.Stat(was.name); err != nil || info.Size() != was.size || !info.ModTime().Equal(was.at) {
		return ""
	}
	return was.name
}

func (s *shared) note(key, name string) {
	info, err := os.Stat(name)
	if err != nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.seen == nil {
		s.seen = map[string]seen{}
	}
	s.seen[key] = seen{name, info.Size(), info.ModTime()}
}
