package trial

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tivset/internal/hosting/web"
)

// stranger asks for a site's pages all the while.
type stranger struct {
	answers map[int]int // by status
	broken  string      // the first page that broke
	cancel  context.CancelFunc
	ended   chan struct{}
}

// pause is how long a stranger waits between two pages.
const pause = 100 * time.Millisecond

func (w *world) stranger(ctx context.Context, at string) *stranger {
	ctx, cancel := context.WithCancel(ctx)
	s := &stranger{answers: map[int]int{}, cancel: cancel, ended: make(chan struct{})}
	visitor := w.newcomer()
	go func() {
		defer close(s.ended)
		for ctx.Err() == nil {
			page, err := visitor.Get(ctx, at)
			if err == nil {
				s.saw(page)
			}
			select {
			case <-ctx.Done():
			case <-time.After(pause):
			}
		}
	}()
	return s
}

// newcomer is somebody with a browser who finds the account's domain.
func (w *world) newcomer() *web.Visitor {
	return web.NewVisitor(web.Connections{domain + w.web[strings.LastIndexByte(w.web, ':'):]: w.web})
}

func (s *stranger) saw(p *web.Page) {
	s.answers[p.Status]++
	if p.Status >= 500 && p.Status != 503 && s.broken == "" {
		s.broken = fmt.Sprintf("a stranger saw a page that answered %d: %.200s", p.Status, p.Body)
	}
}

// end says what the stranger saw.
func (s *stranger) end() (string, error) {
	s.cancel()
	<-s.ended
	var out []string
	for _, status := range slices.Sorted(maps.Keys(s.answers)) {
		out = append(out, fmt.Sprintf("%d × %d", s.answers[status], status))
	}
	if s.broken != "" {
		return "", fmt.Errorf("%s", s.broken)
	}
	return "a stranger saw " + strings.Join(out, ", "), nil
}
