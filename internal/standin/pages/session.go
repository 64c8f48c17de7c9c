package pages

import (
	"crypto/rand"
	"net/http"
	"sync"
)

// sessions are the visitors' sessions, kept while the server runs.
type sessions struct {
	mu  sync.Mutex
	all map[string]*session
}

type session struct {
	mu     sync.Mutex
	values map[string]string
	secret string
}

func newSessions() *sessions { return &sessions{all: map[string]*session{}} }

const cookie = "visit"

// of finds the request's session or begins one.
func (s *sessions) of(w http.ResponseWriter, r *http.Request) *session {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c, err := r.Cookie(cookie); err == nil {
		if found, ok := s.all[c.Value]; ok {
			return found
		}
	}
	id := rand.Text()
	begun := &session{values: map[string]string{}, secret: rand.Text()}
	s.all[id] = begun
	http.SetCookie(w, &http.Cookie{Name: cookie, Value: id, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
	return begun
}

func (s *session) get(name string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.values[name]
}

func (s *session) set(name, value string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.values[name] = value
}

func (s *session) clear() {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.values)
}

func (s *session) token() string { return s.secret }
