package queue

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"github.com/riverqueue/river"
)

// Back is why an order is put back on the queue: it says nothing about the site.
type Back struct {
	After time.Duration // for how long
	Why   string

	// Lacks is what this worker lacks, and others may have: a kit, the key of a host. It takes no more of that kind for a
	// while. Useless says that it lacks something for everything, and ends.
	Lacks   Lack
	Useless error

	known bool // that it lacks it was said before
}

// Lack says for which orders a worker lacks something.
type Lack struct {
	Number  int64  // this one
	Account string // or all of an account; "" for no account
}

const (
	// again is after how long at least an order comes again that this worker cannot carry out. It is more by chance:
	// else the same worker, which asks every second, would be the first each time.
	again = time.Second

	// lackFor is for how long a worker takes it that it lacks something.
	lackFor = 2 * time.Minute

	// forPeople is after how many workers that give an order back somebody has to look at it.
	forPeople = 3

	// stuckFor is when one is tried again that waits for somebody.
	stuckFor = 24 * time.Hour
)

// lacks is what a worker lacks, and until when it takes it that it does.
type lacks struct {
	mu  sync.Mutex
	why map[Lack]string
	to  map[Lack]time.Time
}

// lacking says why an order is not one for this worker; "" where it may be.
func (w *Worker) lacking(number int64, o Order) string {
	w.lacks.mu.Lock()
	defer w.lacks.mu.Unlock()
	for _, lack := range []Lack{{Number: number}, {Account: o.Account}} {
		if w.lacks.why[lack] != "" && time.Now().Before(w.lacks.to[lack]) {
			return w.lacks.why[lack]
		}
	}
	return ""
}

// lack notes it, for itself and for people.
func (w *Worker) lack(ctx context.Context, of Lack, why string) {
	w.lacks.mu.Lock()
	if w.lacks.why == nil {
		w.lacks.why, w.lacks.to = map[Lack]string{}, map[Lack]time.Time{}
	}
	w.lacks.why[of], w.lacks.to[of] = why, time.Now().Add(lackFor)
	said := map[string]string{}
	for lack, why := range w.lacks.why {
		if time.Now().Before(w.lacks.to[lack]) {
			said[lack.words()] = why
		}
	}
	w.lacks.mu.Unlock()
	text, _ := json.Marshal(said) // texts always have a form in JSON
	// people see it the next time, if not now
	_, _ = w.queue.team.Pool().Exec(ctx, "UPDATE workers SET lacks = $2 WHERE id = $1", w.ID, string(text))
}

func (l Lack) words() string {
	if l.Account != "" {
		return "account " + l.Account
	}
	return "number " + number(l.Number)
}

// putBack puts an order back. One that several workers have given back waits for people.
func (w *Worker) putBack(ctx context.Context, id int64, o Order, b Back) error {
	if b.Useless != nil {
		w.stop(b.Useless)
	}
	if b.Lacks != (Lack{}) {
		w.lack(ctx, b.Lacks, b.Why)
	}
	if !b.known {
		w.tell("put back", id, o)
	}
	by := ""
	if b.Lacks != (Lack{}) || b.Useless != nil || b.known {
		by = w.ID
	}
	var gave int
	err := w.queue.team.Pool().QueryRow(ctx, "UPDATE river_job SET metadata = metadata || jsonb_build_object('why', "+
		"$2::text) "+
		"|| CASE WHEN $3 = '' THEN '{}'::jsonb ELSE jsonb_build_object('gave', coalesce(metadata->'gave', '{}') || "+
		"jsonb_build_object($3::text, $2::text)) END WHERE id = $1 RETURNING (SELECT count(*) FROM "+
		"jsonb_object_keys(coalesce(metadata->'gave', '{}')))", id, b.Why, by).Scan(&gave)
	if err == nil && gave >= forPeople {
		return river.JobSnooze(stuckFor)
	}
	return river.JobSnooze(max(b.After, time.Second))
}
