package batch

import (
	"context"
	"sync"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/backoff"
	"tivset/internal/records/job"
	"tivset/internal/work"
)

// Task is one job of several.
type Task struct {
	Account *account.Account
	Server  string // the database server, as the account names it; "" for none
	Do      func(ctx context.Context, d *work.Service) error
}

// Watch hears how tasks go on, of one at a time. Its functions may be nil; without Stage the service's
// Progress hears what is done.
type Watch struct {
	Once  bool // nothing is tried again
	Stage func(task int, e job.Event)
	Ended func(task int, err error)
}

// again is how often a task is begun once more that failed, and was undone, because a
// server had too many at once.
const again = 2

// busyTime is for how long a task waits for a place at which another job is at work: copies
// of one site read it one after the other.
const busyTime = 5 * time.Minute

// Side carries tasks out side by side, in their order, within limits, until all have ended.
// Once ctx is done none is begun any more.
func Side(ctx context.Context, d *work.Service, limits Limits, tasks []Task, watch Watch) {
	s := &side{desk: d, gate: newGate(d.Now), watch: watch, ended: make(chan struct{}, len(tasks))}
	lanes := s.lanes(limits, tasks)
	running := 0
	for left := len(tasks); left > 0; {
		for _, lane := range lanes {
			for len(lane.waiting) > 0 && s.gate.enter(lane.keys) {
				n := lane.waiting[0]
				lane.waiting = lane.waiting[1:]
				running++
				go s.one(ctx, n, tasks[n], lane.keys)
			}
		}
		<-s.ended // at least one is under way: nobody else keeps a lane from being entered
		running--
		left--
	}
}

// side is one run of tasks.
type side struct {
	desk  *work.Service
	gate  *gate
	watch Watch
	mu    sync.Mutex // what is told is told one at a time
	ended chan struct{}
}

// lane are the tasks that are counted at the same.
type lane struct {
	keys    []string
	waiting []int
}

func (s *side) lanes(limits Limits, tasks []Task) (out []*lane) {
	type at struct{ account, server string }
	by := map[at]*lane{}
	for n, task := range tasks {
		key := at{task.Account.Name, task.Server}
		if by[key] == nil {
			by[key] = &lane{keys: s.gate.keys(limits, task.Account, task.Server)}
			out = append(out, by[key])
		}
		by[key].waiting = append(by[key].waiting, n)
	}
	return out
}

// one carries one task out.
func (s *side) one(ctx context.Context, n int, task Task, keys []string) {
	err := errNotBegun()
	if ctx.Err() == nil {
		err = s.try(ctx, n, task)
	}
	s.gate.leave(keys)
	s.mu.Lock()
	if s.watch.Ended != nil {
		s.watch.Ended(n, err)
	}
	s.mu.Unlock()
	s.ended <- struct{}{}
}

// try does a task, and once more where only a crowd was in its way and all was undone.
func (s *side) try(ctx context.Context, n int, task Task) error {
	desk, hosting := *s.desk, *s.desk.Hosting
	hosting.Crowded = s.gate.crowded
	desk.Hosting = &hosting
	shows := desk.Progress
	if s.watch.Stage != nil {
		shows = func(e job.Event) { s.watch.Stage(n, e) }
	}
	if shows != nil {
		desk.Progress = func(e job.Event) {
			s.mu.Lock()
			defer s.mu.Unlock()
			shows(e)
		}
	}
	began, tries := time.Now(), 0
	for {
		err := task.Do(ctx, &desk)
		f, pause := fault.Of(err), time.Second
		switch {
		case err == nil || f.Kind == fault.Incomplete || s.watch.Once || ctx.Err() != nil:
			return err
		case f.Busy && time.Since(began) < busyTime:
		case backoff.Is(err) && tries < again:
			tries++
			pause = 5 * time.Second
			s.gate.crowded(task.Account.Name)
		default:
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(pause):
		}
	}
}
