package site

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
)

// Jobs lists the jobs, newest first. One that is recorded as running although
// nobody has its journal in hand was cut off.
func (s *Service) Jobs(ctx context.Context) ([]ledger.Job, error) {
	jobs, err := s.Ledger.Jobs(ctx)
	if err != nil {
		return nil, err
	}
	for i := range jobs {
		if jobs[i].Outcome == "running" && s.cutOff(jobs[i].ID) {
			jobs[i].Outcome = "cut off"
		}
	}
	return jobs, nil
}

func (s *Service) cutOff(id string) bool {
	j, err := job.Open(s.Home.Journals(), id, s.Now)
	if err == nil {
		_ = j.Close()
	}
	return !errors.Is(err, job.ErrRunning)
}

// Unfinished lists the jobs that need an undo.
func (s *Service) Unfinished(ctx context.Context) ([]ledger.Job, error) {
	jobs, err := s.Jobs(ctx)
	var out []ledger.Job
	for _, j := range jobs {
		if j.Outcome == "cut off" || j.Outcome == "left" {
			out = append(out, j)
		}
	}
	return out, err
}

// Undo takes back a job that was cut off or left. One that had already settled
// is finished instead. It returns the job as it is now recorded.
func (s *Service) Undo(ctx context.Context, id string) (ledger.Job, error) {
	entry, journal, err := s.openJob(ctx, id)
	if err != nil {
		return entry, err
	}
	defer journal.Close()
	if journal.Over() && entry.Ended != nil {
		return entry, fault.New(fault.Usage, "the job has ended already", id+", "+entry.Outcome, "Only a job that was cut off, or the last install of a site, can be undone.")
	}
	settled := journal.Ended == "done"
	if !journal.Over() { // else only the ledger was not told any more
		if settled, err = s.recover(ctx, journal, (*job.Runner).Recover); err != nil {
			return entry, err
		}
	}
	return s.jobEnded(ctx, entry, settled)
}

// openJob finds a job in the ledger and its journal.
func (s *Service) openJob(ctx context.Context, id string) (ledger.Job, *job.Journal, error) {
	var entry ledger.Job
	jobs, err := s.Ledger.Jobs(ctx)
	if err != nil {
		return entry, nil, err
	}
	for _, j := range jobs {
		if j.ID == id {
			entry = j
		}
	}
	journal, err := job.Open(s.Home.Journals(), id, s.Now)
	if errors.Is(err, job.ErrRunning) {
		return entry, nil, running(id)
	}
	if err != nil {
		return entry, nil, err
	}
	if entry.ID == "" { // the ledger lost it, the journal did not
		entry = ledger.Job{ID: id, What: journal.What, Account: journal.Account, Address: journal.Address, Started: s.Now().UTC()}
	}
	return entry, journal, nil
}

func (s *Service) jobEnded(ctx context.Context, entry ledger.Job, settled bool) (ledger.Job, error) {
	now := s.Now().UTC()
	entry.Outcome, entry.Ended = "undone", &now
	if settled {
		entry.Outcome = outcomes[entry.What]
	}
	if err := s.Ledger.PutJob(ctx, entry); err != nil {
		return entry, fmt.Errorf("record the end of the job: %w", err)
	}
	return entry, nil
}

// Installed gives the site that a job installed and that nothing has changed
// since; false when there is none.
func (s *Service) Installed(ctx context.Context, id string) (ledger.Site, bool, error) {
	jobs, err := s.Ledger.Jobs(ctx)
	if err != nil || !slices.ContainsFunc(jobs, func(j ledger.Job) bool { return j.ID == id && j.Ended != nil }) {
		return ledger.Site{}, false, err
	}
	sites, err := s.Ledger.Sites(ctx)
	for _, x := range sites {
		if x.Job == id && x.LastJob == "" {
			return x, true, err
		}
	}
	return ledger.Site{}, false, err
}

// TakeBack undoes the job that installed a site: the site goes, with all that
// was written in it since, and what was set aside for it is put back. Left are
// the names in its folder that are not the install's.
func (s *Service) TakeBack(ctx context.Context, id string) (entry ledger.Job, left []string, err error) {
	found, ok, err := s.Installed(ctx, id)
	if err != nil {
		return entry, nil, err
	}
	if !ok {
		return entry, nil, fault.New(fault.Usage, "no site is this job's any more", id, "See the sites with: tivset sites")
	}
	entry, journal, err := s.openJob(ctx, id)
	if err != nil {
		return entry, nil, err
	}
	defer journal.Close()
	entry.Outcome, entry.Ended = "running", nil
	if err := s.Ledger.PutJob(ctx, entry); err != nil {
		return entry, nil, err
	}
	reverse := func(r *job.Runner, ctx context.Context, decode job.Decode) (bool, error) {
		return false, r.Reverse(ctx, decode)
	}
	if _, err := s.recover(ctx, journal, reverse); err != nil {
		return entry, nil, err
	}
	entry, err = s.jobEnded(ctx, entry, false)
	if err != nil {
		return entry, nil, err
	}
	left, err = s.leftIn(ctx, found)
	return entry, left, err
}

// leftIn lists what would be in the way where a site was that went.
func (s *Service) leftIn(ctx context.Context, gone ledger.Site) ([]string, error) {
	a, err := s.Home.Account(gone.Account)
	if err != nil {
		return nil, err
	}
	fsys, err := s.OpenFiles(ctx, a)
	if err != nil {
		return nil, unreachable(a, err)
	}
	defer fsys.Close()
	p := &Plan{account: a, Account: a.Name, answers: answer.Given{"occupied": setAsideAnswer}}
	if p.place, err = resolve(gone.URL, a.Domains); err != nil {
		return nil, err
	}
	if err := s.lookAtPlace(ctx, p, fsys); err != nil {
		return nil, err
	}
	return slices.DeleteFunc(p.Changes.SetAside, func(name string) bool { return slices.Contains(gone.SetAside, name) }), nil
}

// recover ends a job by its journal.
func (s *Service) recover(ctx context.Context, journal *job.Journal, how func(*job.Runner, context.Context, job.Decode) (bool, error)) (settled bool, err error) {
	a, err := s.Home.Account(journal.Account)
	if err != nil {
		return false, err
	}
	fsys, err := s.OpenFiles(ctx, a)
	if err != nil {
		return false, unreachable(a, err)
	}
	defer fsys.Close()
	e := &env{Service: s, account: a, files: fsys, job: journal.ID, count: func(int64, int64, string) {}}
	runner := &job.Runner{Journal: journal, Progress: s.Progress, Again: comesBack, Patience: s.Patience}
	settled, err = how(runner, ctx, e.decoder())
	if err != nil {
		return settled, &fault.Error{Kind: fault.Left, What: "the job could not be undone", Where: journal.ID, Job: journal.ID,
			Remedy: "When that is mended, run: tivset undo " + journal.ID, Cause: err}
	}
	return settled, nil
}
