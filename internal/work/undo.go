package work

import (
	"context"
	"errors"
	"io/fs"
	"slices"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/logs"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
	"tivset/internal/step"
)

// Jobs lists the jobs, newest first. One that is recorded as running although
// nobody has its journal in hand was cut off.
func (d *Service) Jobs(ctx context.Context) ([]ledger.Job, error) {
	return d.jobs(ctx, ledger.JobFilter{})
}

func (d *Service) jobs(ctx context.Context, of ledger.JobFilter) ([]ledger.Job, error) {
	jobs, err := d.Book.Ledger.Jobs(ctx, of)
	if err != nil {
		return nil, err
	}
	for i := range jobs {
		if jobs[i].Outcome == ledger.Running && d.cutOff(jobs[i].ID) {
			jobs[i].Outcome = ledger.CutOff
		}
	}
	return jobs, nil
}

func (d *Service) cutOff(id string) bool {
	j, err := job.Open(d.Book.Journals, id, d.Now)
	if err == nil {
		_ = j.Close()
	}
	return !errors.Is(err, job.ErrRunning)
}

// Unfinished lists the jobs that need an undo.
func (d *Service) Unfinished(ctx context.Context) ([]ledger.Job, error) {
	jobs, err := d.jobs(ctx, ledger.JobFilter{Unfinished: true})
	var out []ledger.Job
	for _, j := range jobs {
		if j.Outcome == ledger.CutOff || j.Outcome == ledger.Incomplete {
			out = append(out, j)
		}
	}
	return out, err
}

// Undo takes back a job that was cut off or left. One that had already settled
// is finished instead, and one that was undone stays so. It returns the job as it is now
// recorded.
func (d *Service) Undo(ctx context.Context, id string) (ledger.Job, error) {
	entry, journal, err := d.openJob(ctx, id)
	if err != nil {
		return entry, err
	}
	defer journal.Close()
	if journal.Over() && entry.Ended != nil && entry.Outcome == ledger.Undone {
		return entry, nil
	}
	if (journal.Over() || entry.Outcome == ledger.GivenUp) && entry.Ended != nil {
		return entry, fault.New(fault.Usage, "the job has ended already", id+", "+string(entry.Outcome),
			"Only a job that was cut off, or the last install of a site, can be undone.")
	}
	settled := journal.Ended == "done"
	if !journal.Over() { // else only the ledger was not told any more
		settled, err = d.recover(ctx, journal, &entry, (*job.Runner).Recover)
	}
	return d.jobEnded(ctx, entry, settled, err)
}

// openJob finds a job in the ledger and its journal.
func (d *Service) openJob(ctx context.Context, id string) (ledger.Job, *job.Journal, error) {
	entry, err := d.ledgerJob(ctx, id)
	if err != nil {
		return entry, nil, err
	}
	journal, err := d.openJournal(id)
	if err != nil {
		return entry, nil, err
	}
	if entry.ID == "" { // the ledger lost it, the journal did not
		entry = ledger.Job{ID: id, What: journal.What, Account: journal.Account, Address: journal.Address,
			Started: d.Now().UTC()}
	}
	return entry, journal, nil
}

// ledgerJob finds a job in the ledger; one without an id where it has none of it.
func (d *Service) ledgerJob(ctx context.Context, id string) (ledger.Job, error) {
	entry, err := d.Book.Ledger.Job(ctx, id)
	if errors.Is(err, fs.ErrNotExist) {
		return ledger.Job{}, nil
	}
	return entry, err
}

// openJournal opens the journal of a job that does not run.
func (d *Service) openJournal(id string) (*job.Journal, error) {
	journal, err := job.Open(d.Book.Journals, id, d.Now)
	if errors.Is(err, job.ErrRunning) {
		return nil, fault.New(fault.NeedsConfirmation, "the job is running", id,
			"Wait for its end, or press Ctrl-C where it runs.")
	}
	if err != nil && fault.CodeOf(err) == fault.NoSuchJob {
		if _, known := d.Book.Ledger.Job(context.Background(), id); known == nil { // no slip of the finger
			return nil, fault.NewAs(fault.NoSuchJob, fault.Usage, "the journal of the job is lost", id,
				"To end the job without it: "+fault.Call("undo", id, "--give-up"))
		}
	}
	return journal, err
}

// jobEnded notes that a job was undone, or finished. The error is that of the undo: one that says
// no more than that the journal could not be told of it is told with what else could not be noted.
func (d *Service) jobEnded(ctx context.Context, entry ledger.Job, settled bool, err error) (ledger.Job, error) {
	var unnoted *job.Unnoted
	if err != nil && !errors.As(err, &unnoted) {
		return entry, err
	}
	now, what := d.Now().UTC(), "the job was undone"
	entry.Outcome, entry.Ended = ledger.Undone, &now
	if settled {
		entry.Outcome, what = ledger.Done, "the job was finished"
	}
	if err = errors.Join(err, d.Book.Ledger.PutJob(context.WithoutCancel(ctx), entry)); err != nil {
		f := fault.NewAs(fault.EndUnnoted, fault.Incomplete, what+", but that could not be noted", entry.ID,
			"When that is fixed, run once more: "+fault.Call("undo", entry.ID)).Wrap(err)
		f.Job, f.Details = entry.ID, Kept(entry)
		return entry, f
	}
	return entry, nil
}

// Installed gives the site that a job installed and that nothing has changed
// since; false when there is none.
func (d *Service) Installed(ctx context.Context, id string) (ledger.Site, bool, error) {
	entry, err := d.ledgerJob(ctx, id)
	if err != nil || entry.Ended == nil {
		return ledger.Site{}, false, err
	}
	x, err := d.Book.Ledger.Site(ctx, entry.Address)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return ledger.Site{}, false, nil
	case err != nil || x.Job != id || x.LastJob != "":
		return ledger.Site{}, false, err
	}
	return x, true, nil
}

// TakeBack undoes the job that installed a site: the site goes, with all that
// was written in it since, and what was set aside for it is put back. Left are
// the names in its folder that are not the install's.
func (d *Service) TakeBack(ctx context.Context, id string) (entry ledger.Job, left []string, err error) {
	found, ok, err := d.Installed(ctx, id)
	if err != nil {
		return entry, nil, err
	}
	if !ok {
		return entry, nil, fault.New(fault.Usage, "no site is this job's any more", id, "See the sites with: "+
			fault.Call("sites"))
	}
	entry, journal, err := d.openJob(ctx, id)
	if err != nil {
		return entry, nil, err
	}
	defer journal.Close()
	reverse := func(r *job.Runner, ctx context.Context, decode job.Decode) (bool, error) {
		if err := journal.Reopen(); err != nil { // before all else: the undo can be asked for again then
			return false, err
		}
		entry.Outcome, entry.Ended = ledger.Running, nil
		if err := d.Book.Ledger.PutJob(ctx, entry); err != nil {
			return false, err
		}
		return r.Recover(ctx, decode)
	}
	_, err = d.recover(ctx, journal, &entry, reverse)
	entry, err = d.jobEnded(ctx, entry, false, err)
	if err != nil {
		return entry, nil, err
	}
	left, err = d.leftIn(ctx, found)
	return entry, left, err
}

// leftIn lists what would be in the way where a site was that went.
func (d *Service) leftIn(ctx context.Context, gone ledger.Site) ([]string, error) {
	a, err := d.Book.Home.Account(gone.Account)
	if err != nil {
		return nil, err
	}
	left, err := d.Planner.InTheWay(ctx, a, gone.URL)
	return slices.DeleteFunc(left, func(name string) bool { return slices.Contains(gone.SetAside, name) }), err
}

// recover ends a job by its journal, and notes in its entry what it put something
// over.
func (d *Service) recover(ctx context.Context, journal *job.Journal, entry *ledger.Job, how func(*job.Runner,
	context.Context, job.Decode) (bool, error)) (settled bool, err error) {
	a, err := d.Book.Home.Account(journal.Account)
	if err != nil {
		return false, err
	}
	secrets := d.secretsOf(journal.Address)
	ctx, logged := d.logged(ctx, journal.ID, secrets)
	defer logged()
	logs.From(ctx).Info("the job is taken in hand again", "job", journal.ID, "who", d.Who)
	defer func() { logEnd(ctx, err) }()
	in, err := d.Hosting.Open(ctx, a)
	if err != nil {
		return false, err
	}
	defer in.Close()
	runner := &job.Runner{
		Journal:  journal,
		Progress: d.telling(secrets),
		Again:    hosting.ErrComesBack,
		Patience: d.Patience,
		Fenced:   d.shared(),
		StageOf:  step.StageOf,
	}
	t := d.tools(in, journal.ID)
	if err := d.mayPutBack(ctx, runner, t.Decode()); err != nil {
		return false, err
	}
	settled, err = how(runner, ctx, t.Decode())
	entry.Kept, entry.Replaced, entry.Warnings = t.Result.Kept, t.Result.Replaced, t.Result.Warnings
	var unnoted *job.Unnoted
	if errors.As(err, &unnoted) {
		return settled, &job.Unnoted{Cause: fault.Hiding(unnoted.Cause, hiding(secrets))}
	}
	if err != nil {
		f := &fault.Error{Kind: fault.Incomplete, Code: fault.Unfinished, What: "the job could not be undone",
			Where: journal.ID, Job: journal.ID, Details: Kept(*entry),
			Remedy: "When that is fixed, run: " + fault.Call("undo", journal.ID), Cause: fault.Hiding(err, hiding(secrets))}
		if entry.Ended == nil {
			f.Remedy += ". If it cannot be, have what is left named and the job ended: " +
				fault.Call("undo", journal.ID, "--give-up")
			entry.Outcome, entry.Problem = ledger.Incomplete, f.Cause.Error()
			return settled, errors.Join(f, d.Book.Ledger.PutJob(context.WithoutCancel(ctx), *entry))
		}
		return settled, f
	}
	return settled, nil
}

// secretsOf lists what no message about a site's job may hold.
func (d *Service) secretsOf(address string) []string {
	names, err := d.Book.Vault.Names(site.VaultName(address, ""))
	var out []string
	for _, name := range names {
		if v, errGet := d.Book.Vault.Get(name); err == nil && errGet == nil {
			out = append(out, v.Reveal())
		}
	}
	return out
}

// mayPutBack has somebody agree where taking a job back puts a database back over
// what has been written since.
func (d *Service) mayPutBack(ctx context.Context, r *job.Runner, decode job.Decode) error {
	puts, err := r.PutsBack(decode)
	if err != nil || !puts {
		return err
	}
	what := "The job had begun to change the database of " + r.Journal.Address + ". To take it back, the database is " +
		"put back as it was before that; what has been written there since is kept first, as a backup on this machine."
	if d.Agree == nil {
		return fault.New(fault.NeedsConfirmation, "the database would be put back over what is there now",
			r.Journal.Address, "")
	}
	return d.Agree(ctx, what)
}

// Kept says where that is which a job put something over when it was taken back,
// and how to have it instead.
func Kept(j ledger.Job) []string {
	var out []string
	for _, name := range j.Kept {
		out = append(out, "What was in the database at that moment is kept as a backup; to use that instead: "+
			fault.Call("restore", j.Address, "--from", name))
	}
	for _, folder := range j.Replaced {
		out = append(out, "Files that had come to be there, or were changed, are kept in the account, in "+folder)
	}
	return out
}
