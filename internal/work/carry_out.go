package work

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"syscall"

	"tivset/internal/app/setup"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
	"tivset/internal/logs"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/step"
)

// Job is one job of a way that is to be carried out.
type Job struct {
	Way     Operation
	Request any    // what was asked for, without secrets: kept in the journal, to ask again
	Remedy  string // what to do about a failure that does not say itself; "" for the usual
	Undone  string // what is to be said when it was undone; "" for the usual

	// List gives the job's steps; let go of what they share with done, which may
	// be nil.
	List func(context.Context) (list job.List, done func(), err error)
}

// CarryOut runs a job's steps, with its journal and its record in the ledger.
// It returns nil, or a fault after everything was undone (Failed) or with
// something left (Left), if only that the end could not be noted.
func (d *Service) CarryOut(ctx context.Context, t *step.Tools, j Job) error {
	if d.Plans {
		return fault.New(fault.Usage, "this cannot be put on the queue", t.Site.Place.URL,
			"Leave --queue out, and do it here.")
	}
	runner := &job.Runner{Progress: d.telling(t.Site.Hidden()), Again: hosting.ErrComesBack, Patience: d.Patience,
		Keep: d.KeepFailed, Fenced: d.shared(), StageOf: step.StageOf}
	t.Count = counter(runner)
	list, done, err := j.List(ctx)
	if err != nil {
		return err
	}
	if done != nil {
		defer done()
	}
	request, err := json.Marshal(j.Request)
	if err != nil {
		return err
	}
	address := t.Site.Address()
	ctx, logged := d.logged(ctx, t.Job, append(d.secretsOf(address), t.Site.Hidden()...))
	defer logged()
	logs.From(ctx).Info("job begins", "job", t.Job, "what", j.Way.Name, "app", t.Site.App, "release", t.Site.Release,
		"account", t.In.Name, "address", address, "who", d.Who, "request", string(request))
	header := job.Header{ID: t.Job, What: j.Way.Name, Account: t.In.Name, Address: address, Request: request}
	if runner.Journal, err = job.Begin(d.Book.Journals, header, list, d.Now); err != nil {
		return err
	}
	defer runner.Journal.Close()
	entry := ledger.Job{ID: t.Job, What: j.Way.Name, App: t.Site.App, Account: t.In.Name, Address: address,
		Who: d.Who, Order: d.Order, Started: d.Now().UTC(), Outcome: ledger.Running}
	if err := d.Book.Ledger.PutJob(ctx, entry); err != nil {
		return errors.Join(err, runner.Journal.Void())
	}
	err = d.ended(ctx, t, j, entry, runner.Run(ctx, list))
	logEnd(ctx, err)
	return fault.Hiding(err, hiding(t.Site.Hidden()))
}

// ended notes how a job ended, and words why it did not come to its end. What cannot be
// noted is said with what happened, never in its place.
func (d *Service) ended(ctx context.Context, t *step.Tools, j Job, entry ledger.Job, runErr error) error {
	entry.Kept, entry.Replaced, entry.Problem = t.Result.Kept, t.Result.Replaced, problem(runErr, t.Site.Hidden())
	var unnoted *job.Unnoted
	var stopped *job.Stopped
	done := runErr == nil || errors.As(runErr, &unnoted)
	if errors.As(runErr, &stopped) {
		done, runErr = false, d.stopped(ctx, t, j, stopped)
		errors.As(stopped.Unnoted, &unnoted)
	}
	if stopped != nil && errors.Is(stopped.Cause, job.ErrNotOurs) {
		return runErr // whoever has the job in hand says how it ends
	}
	var noted error
	if unnoted != nil {
		noted = unnoted.Cause
	}
	if !errors.Is(noted, job.ErrNotOurs) {
		noted = errors.Join(noted, d.endJob(entry, stopped))
	}
	switch {
	case noted == nil:
		d.prune(context.WithoutCancel(ctx))
		return runErr
	case done:
		return d.doneUnnoted(t, j, noted)
	}
	f := fault.Of(runErr)
	f.Details = append(f.Details, "How the job ended could not be noted either, and it is listed as cut off ("+
		noted.Error()+"). To note it, run: "+fault.Call("undo", t.Job))
	return f
}

// prune forgets jobs of long ago, with their journals. What cannot be forgotten now is the next time.
func (d *Service) prune(ctx context.Context) {
	logs.Prune(d.Book.Home.Logs(), d.Now().AddDate(0, 0, -LoggedFor))
	old, _ := d.Book.Ledger.DropJobs(ctx, d.Now().AddDate(0, 0, -ledger.JobsFor))
	for _, id := range old {
		_ = d.Book.Journals.Drop(id)
	}
}

// doneUnnoted is the fault of a job that did all that it was to do, and could not note it.
func (d *Service) doneUnnoted(t *step.Tools, j Job, why error) error {
	f := fault.NewAs(fault.EndUnnoted, fault.Incomplete,
		"the site is "+j.Way.Past+", but that the job has ended could not be noted",
		t.Site.Place.URL, "When that is fixed, run: "+fault.Call("resume", t.Job)).Wrap(why)
	f.Job = t.Job
	f.Details = []string{"All that the job was to do is done; until its end is noted, it is listed as cut off."}
	return f
}

// telling is how a job's progress is told, without its secrets; nil where nobody
// listens.
func (d *Service) telling(secrets []string) func(job.Event) {
	if d.Progress == nil {
		return nil
	}
	return func(e job.Event) {
		e.Detail = secret.Hide(e.Detail, secrets)
		d.Progress(e)
	}
}

// counter makes the callback with which a step tells how far it is.
func counter(r *job.Runner) func(int64, int64, string) {
	if r.Progress == nil {
		return func(int64, int64, string) {}
	}
	var last job.Event
	report := r.Progress
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

// endJob notes in the ledger how a job ended; stopped is nil for one that came to its end.
func (d *Service) endJob(entry ledger.Job, stopped *job.Stopped) error {
	now := d.Now().UTC()
	entry.Ended, entry.Outcome = &now, ledger.Done
	if stopped != nil {
		entry.Outcome = ledger.Undone
		if !stopped.Undone {
			entry.Outcome, entry.Ended = ledger.Incomplete, nil
		}
	}
	return d.Book.Ledger.PutJob(context.Background(), entry)
}

// problem words why a job stopped, for the list of jobs; "" for one that did not.
func problem(err error, secrets []string) string {
	var stopped *job.Stopped
	switch {
	case !errors.As(err, &stopped):
		return ""
	case errors.Is(stopped.Cause, context.Canceled):
		return stopped.Step + ": interrupted"
	}
	return secret.Hide(stopped.Error(), secrets)
}

// hiding takes secrets out of what is said about a job: addresses that the app
// is asked for, and what servers answer, may hold them.
func hiding(secrets []string) func(string) string {
	return func(text string) string { return secret.Hide(text, secrets) }
}

// stopped words why a job did not come to its end, and what became of it.
func (d *Service) stopped(ctx context.Context, t *step.Tools, j Job, stopped *job.Stopped) error {
	f := *fault.Of(stopped.Cause)
	if f.Kind != fault.NeedsConfirmation || !stopped.Undone {
		f.Kind = fault.Failed
	}
	if ctx.Err() != nil {
		f.What, f.Cause, f.Code = "interrupted", nil, fault.Interrupted
		f.Remedy = "Run the command again when you are ready."
	}
	f.Job = stopped.Job
	f.What = fmt.Sprintf("%s: %s", stopped.Step, f.What)
	if f.Where == "" {
		f.Where = t.Site.Place.URL
	}
	if f.Remedy == "" {
		f.Remedy = cmp.Or(j.Remedy, remedy(stopped.Cause, t.In.Account.Name))
	}
	if t.Result.Backup != "" {
		f.Details = append(f.Details, "The backup that was made first stays in the account: "+t.Result.Backup)
	}
	f.Details = append(f.Details, Kept(ledger.Job{Address: t.Site.Address(),
		Kept: t.Result.Kept, Replaced: t.Result.Replaced})...)
	if stopped.Undone {
		if f.Remedy == setup.LookAtServer { // where nothing is any more
			f.Remedy = "What the page said is above; what was asked of the server is in: " + fault.Call("jobs", stopped.Job,
				"--log")
		}
		f.Details = append(f.Details, cmp.Or(j.Undone, "Everything that was begun was undone; the account is as it was."))
		return &f
	}
	f.Kind, f.Code = fault.Incomplete, fault.Unfinished
	if stopped.Settled {
		f.Details = append(f.Details, "The site is "+j.Way.Past+"; only traces of the job are left in the account.")
		f.Remedy = "To finish, run: " + fault.Call("resume", stopped.Job)
		return &f
	}
	if stopped.Kept {
		f.Details = append(f.Details, "What was begun is left as it is, to be looked at: files in "+t.Site.Place.Folder+
			" or the stage beside it, and anybody can see what of it the web shows.")
		f.Remedy = "When you have seen enough, take it back: " + fault.Call("undo", stopped.Job)
		return &f
	}
	f.Details = append(f.Details, "It could not all be undone: "+stopped.Left.Error())
	f.Remedy = "When that is fixed, run: " + fault.Call("undo", stopped.Job) + "; or, to have it done after all: " +
		fault.Call("resume", stopped.Job)
	return &f
}

// remedy says what to do about an error that came without one.
func remedy(err error, account string) string {
	test := fault.Call("account", "test", account)
	var blocked *files.Blocked
	switch {
	case errors.As(err, &blocked):
		return "Move it, or bring the site to another place."
	case errors.Is(err, fs.ErrPermission):
		return "Give the user who runs this the right to write there; see: " + test
	case errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT):
		return "Make room in the account, and try again."
	}
	return "Try again; if it stays so, see what of the account works: " + test
}
