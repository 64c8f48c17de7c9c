package site

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"syscall"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
)

// work is a job that is to be carried out.
type work struct {
	what    string // install, update, …
	app     string
	address string
	url     string // what a fault is about, where it does not say itself
	request any    // what was asked for, kept in the journal to ask again
	remedy  string // what to do about a failure that does not say itself; "" for the usual
	undone  string // what is to be said when it was undone; "" for the usual
	steps   func(context.Context) (steps, error)
}

// steps are those of a job, and what lets go of what they share (or nil).
type steps struct {
	list []job.Step
	done func()
}

// outcomes are the words for jobs that came to their end.
var outcomes = map[string]string{"install": "installed", "update": "updated", "restore": "restored", "copy": "copied", "move": "moved", "remove": "removed",
	"back up": "backed up", "renew": "renewed", "repair": "repaired"}

// newEnv begins a job in an account.
func (s *Service) newEnv(a *account.Account, fsys files.FS) (*env, error) {
	token, err := s.Maker.Token(4)
	if err != nil {
		return nil, err
	}
	return &env{Service: s, account: a, files: fsys, job: job.NewID(s.Now(), token), count: func(int64, int64, string) {}}, nil
}

// planned begins the job of a plan in its account. Done lets go of the account.
func (s *Service) planned(ctx context.Context, p *Plan) (e *env, done func(), err error) {
	fsys, err := s.OpenFiles(ctx, p.account)
	if err != nil {
		return nil, nil, unreachable(p.account, err)
	}
	if e, err = s.newEnv(p.account, fsys); err != nil {
		return nil, nil, errors.Join(err, fsys.Close())
	}
	e.plan = p
	return e, func() { _ = fsys.Close() }, nil
}

// carryOut runs a job's steps, with its journal and its record in the ledger.
// It returns nil, or a fault after everything was undone (Failed) or with
// something left (Left).
func (e *env) carryOut(ctx context.Context, w work) error {
	s := e.Service
	runner := &job.Runner{Progress: s.Progress, Again: comesBack, Patience: s.Patience}
	e.count = e.counter(runner)
	all, err := w.steps(ctx)
	if err != nil {
		return err
	}
	if all.done != nil {
		defer all.done()
	}
	request, err := json.Marshal(w.request)
	if err != nil {
		return err
	}
	header := job.Header{ID: e.job, What: w.what, Account: e.account.Name, Address: w.address, Request: request}
	if runner.Journal, err = job.Begin(s.Home.Journals(), header, all.list, s.Now); err != nil {
		return err
	}
	defer runner.Journal.Close()
	entry := ledger.Job{ID: e.job, What: w.what, App: w.app, Account: e.account.Name, Address: w.address, Started: s.Now().UTC(), Outcome: "running"}
	if err := s.Ledger.PutJob(ctx, entry); err != nil {
		return err
	}
	runErr := runner.Run(ctx, all.list)
	if err := s.endJob(entry, outcomes[w.what], runErr); err != nil {
		return err
	}
	if runErr != nil {
		return e.stoppedFault(ctx, w, runErr)
	}
	return nil
}

// comesBack says whether an error is one that may pass by waiting.
func comesBack(err error) bool { return errors.Is(err, database.ErrGone) }

// counter makes the callback with which a step tells how far it is.
func (e *env) counter(r *job.Runner) func(int64, int64, string) {
	if e.Progress == nil {
		return func(int64, int64, string) {}
	}
	var last job.Event
	report := e.Progress
	r.Progress = func(event job.Event) {
		last = event
		report(event)
	}
	return func(count, total int64, unit string) {
		event := last
		event.Count, event.Total, event.Unit = count, total, unit
		report(event)
	}
}

// endJob notes how a job ended.
func (s *Service) endJob(entry ledger.Job, outcome string, err error) error {
	now := s.Now().UTC()
	entry.Ended, entry.Outcome = &now, outcome
	var stopped *job.Stopped
	if errors.As(err, &stopped) {
		entry.Outcome, entry.Problem = "undone", stopped.Error()
		if !stopped.Undone {
			entry.Outcome, entry.Ended = "left", nil
		}
	}
	return s.Ledger.PutJob(context.Background(), entry)
}

// stoppedFault words why a job did not come to its end, and what became of it.
func (e *env) stoppedFault(ctx context.Context, w work, err error) error {
	var stopped *job.Stopped
	if !errors.As(err, &stopped) {
		return err
	}
	f := *fault.Of(stopped.Cause)
	if f.Kind != fault.Decision || !stopped.Undone {
		f.Kind = fault.Failed
	}
	if ctx.Err() != nil {
		f.What, f.Cause = "interrupted", nil
		f.Remedy = "Run the command again when you are ready."
	}
	f.Job = stopped.Job
	f.What = fmt.Sprintf("%s: %s", stopped.Step, f.What)
	if f.Where == "" {
		f.Where = w.url
	}
	if f.Remedy == "" {
		f.Remedy = cmp.Or(w.remedy, remedy(stopped.Cause, e.account))
	}
	if stopped.Undone {
		f.Details = append(f.Details, cmp.Or(w.undone, "Everything that was begun was undone; the account is as it was."))
		return &f
	}
	f.Kind = fault.Left
	if stopped.Settled {
		f.Details = append(f.Details, "The site is "+outcomes[w.what]+"; only traces of the job are left in the account.")
		f.Remedy = "To finish, run: tivset resume " + stopped.Job
		return &f
	}
	f.Details = append(f.Details, "It could not all be undone: "+stopped.Left.Error())
	f.Remedy = "When that is mended, run: tivset undo " + stopped.Job + "; or, to have it done after all: tivset resume " + stopped.Job
	return &f
}

// remedy says what to do about an error that came without one.
func remedy(err error, a *account.Account) string {
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "Give the user who runs this the right to write there; see: tivset account test " + a.Name
	case errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT):
		return "Make room in the account, and try again."
	}
	return "Try again; if it stays so, see what of the account works: tivset account test " + a.Name
}
