package site

import (
	"context"
	"errors"
	"fmt"

	"tivset/internal/fault"
	"tivset/internal/job"
	"tivset/internal/ledger"
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
	var entry ledger.Job
	jobs, err := s.Ledger.Jobs(ctx)
	if err != nil {
		return entry, err
	}
	for _, j := range jobs {
		if j.ID == id {
			entry = j
		}
	}
	journal, err := job.Open(s.Home.Journals(), id, s.Now)
	if errors.Is(err, job.ErrRunning) {
		return entry, running(id)
	}
	if err != nil {
		return entry, err
	}
	defer journal.Close()
	if entry.ID == "" { // the ledger lost it, the journal did not
		entry = ledger.Job{ID: id, What: journal.What, Account: journal.Account, Address: journal.Address, Started: s.Now().UTC()}
	}
	if journal.Ended != "" && entry.Ended != nil {
		return entry, fault.New(fault.Usage, "the job has ended already", id+", "+entry.Outcome, "Only a job that was cut off can be undone.")
	}
	settled := journal.Ended == "done"
	if journal.Ended == "" { // else only the ledger was not told any more
		if settled, err = s.recover(ctx, journal); err != nil {
			return entry, err
		}
	}
	now := s.Now().UTC()
	entry.Outcome, entry.Ended = "undone", &now
	if settled {
		entry.Outcome = "installed"
	}
	if err := s.Ledger.PutJob(ctx, entry); err != nil {
		return entry, fmt.Errorf("record the end of the job: %w", err)
	}
	return entry, nil
}

// recover ends a job by its journal.
func (s *Service) recover(ctx context.Context, journal *job.Journal) (settled bool, err error) {
	a, err := s.Home.Account(journal.Account)
	if err != nil {
		return false, err
	}
	fsys, err := s.OpenFiles(a)
	if err != nil {
		return false, unreachable(a, err)
	}
	defer fsys.Close()
	e := &env{Service: s, account: a, files: fsys, job: journal.ID, count: func(int64, int64, string) {}}
	runner := &job.Runner{Journal: journal, Progress: s.Progress, Again: comesBack, Patience: s.Patience}
	settled, err = runner.Recover(ctx, e.decoder())
	if err != nil {
		return settled, &fault.Error{Kind: fault.Left, What: "the job could not be undone", Where: journal.ID, Job: journal.ID,
			Remedy: "When that is mended, run: tivset undo " + journal.ID, Cause: err}
	}
	return settled, nil
}
