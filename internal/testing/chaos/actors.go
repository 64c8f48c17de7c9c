package chaos

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"
)

// Visitors are people who use sites all the while: one writes, one watches, and
// one is up to no good.
type Visitors struct {
	client  *http.Client
	cancel  context.CancelFunc
	wait    sync.WaitGroup
	mu      sync.Mutex
	kept    []string // what the site said it has kept
	tried   int
	asked   int
	taken   []string // what the stranger got
	answers []answered
}

// answered is one answer to the one who watches.
type answered struct {
	at     time.Time
	status int
}

// Visit has visitors come to a site, at its address, until they are told to
// leave. Pace is how often somebody writes.
func (g *Ground) Visit(address string, pace time.Duration) *Visitors {
	ctx, cancel := context.WithCancel(context.Background())
	dial := func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, g.Web)
	}
	v := &Visitors{cancel: cancel, client: &http.Client{Timeout: 10 * time.Second,
		Transport: &http.Transport{DialContext: dial}}}
	v.wait.Go(func() { v.write(ctx, address, pace) })
	v.wait.Go(func() { v.watch(ctx, address) })
	v.wait.Go(func() { v.steal(ctx, address) })
	time.Sleep(300 * time.Millisecond) // so that all have begun, and PHP's code cache is warm
	return v
}

// Leave ends the visit.
func (v *Visitors) Leave() {
	time.Sleep(200 * time.Millisecond)
	v.cancel()
	v.wait.Wait()
}

// Kept lists the entries that the site said it has kept.
func (v *Visitors) Kept() []string { return slices.Clone(v.kept) }

// Begun says whether the site has kept anything yet, so that its code is in PHP's
// cache.
func (v *Visitors) Begun() bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	return len(v.kept) > 0 && len(v.answers) > 0
}

// Tried is how many entries were sent.
func (v *Visitors) Tried() int { return v.tried }

// Asked is how often the stranger asked, Taken what came of it.
func (v *Visitors) Asked() int      { return v.asked }
func (v *Visitors) Taken() []string { return v.taken }

func (v *Visitors) send(ctx context.Context, method, address string, form url.Values) (int, string) {
	r, err := http.NewRequestWithContext(ctx, method, address, strings.NewReader(form.Encode()))
	if err != nil {
		return 0, ""
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	answer, err := v.client.Do(r)
	if err != nil {
		return 0, ""
	}
	defer answer.Body.Close()
	body, _ := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if answer.StatusCode == http.StatusServiceUnavailable && answer.Header.Get("Retry-After") == "" {
		v.mu.Lock()
		v.taken = append(v.taken, "a 503 that does not say when to come again, of "+address)
		v.mu.Unlock()
	}
	return answer.StatusCode, string(body)
}

func (v *Visitors) write(ctx context.Context, address string, pace time.Duration) {
	prefix := time.Now().Format("150405.000")
	for n := 0; ctx.Err() == nil; n++ {
		text := fmt.Sprintf("%s-%d", prefix, n)
		// One that is under way is waited for: it may be kept.
		status, body := v.send(context.WithoutCancel(ctx), http.MethodPost, address+"write.php",
			url.Values{"text": {text}})
		v.mu.Lock()
		v.tried++
		if status == http.StatusOK && strings.Contains(body, "kept "+text) {
			v.kept = append(v.kept, text)
		}
		v.mu.Unlock()
		select {
		case <-ctx.Done():
		case <-time.After(pace):
		}
	}
}

func (v *Visitors) watch(ctx context.Context, address string) {
	for ctx.Err() == nil {
		status, _ := v.send(ctx, http.MethodGet, address, nil)
		v.mu.Lock()
		if ctx.Err() == nil {
			v.answers = append(v.answers, answered{time.Now(), status})
		}
		v.mu.Unlock()
		time.Sleep(20 * time.Millisecond)
	}
}

// Closed is for how long the site did not answer as usual, from the first such
// answer to the next good one, and how many answers of each status there were.
func (v *Visitors) Closed() (time.Duration, map[int]int) {
	v.mu.Lock()
	defer v.mu.Unlock()
	statuses := map[int]int{}
	var from, until time.Time
	for _, a := range v.answers {
		statuses[a.status]++
		if a.status != http.StatusOK && from.IsZero() {
			from = a.at
		}
		if a.status == http.StatusOK && !from.IsZero() && until.IsZero() {
			until = a.at
		}
		if a.status != http.StatusOK && !until.IsZero() {
			until = time.Time{}
		}
	}
	if from.IsZero() || until.IsZero() {
		return 0, statuses
	}
	return until.Sub(from), statuses
}

// steal asks as fast as it can for everything that an app without its
// configuration offers, and for what nobody may see.
func (v *Visitors) steal(ctx context.Context, address string) {
	names := []string{"", "index.php", "config.php", "write.php", "lib/start.php", "uploads/", "data/"}
	for n := 0; ctx.Err() == nil; n++ {
		name := names[n%len(names)]
		method := http.MethodGet
		if n%4 < 2 {
			name, method = "index.php", http.MethodPost
		}
		_, body := v.send(ctx, method, address+name, url.Values{"title": {"Taken"}})
		v.mu.Lock()
		v.asked++
		for _, sign := range []string{"Set this site up", "Taken by a stranger", "'password'"} {
			if strings.Contains(body, sign) && len(v.taken) < 20 {
				v.taken = append(v.taken, fmt.Sprintf("%s %s%s: %.60s", method, address, name, body))
			}
		}
		v.mu.Unlock()
	}
}

// ClosedUntil is for how long the site did not answer as usual, from the first
// such answer to a moment.
func (v *Visitors) ClosedUntil(end time.Time) time.Duration {
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, a := range v.answers {
		if a.status != http.StatusOK {
			return end.Sub(a.at)
		}
	}
	return 0
}
