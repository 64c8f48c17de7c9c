package work

import (
	"context"
	"errors"
	"path"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
)

// GaveUp is a job that nobody can undo or finish any more, and what of it is still
// in the account.
type GaveUp struct {
	Job   ledger.Job
	Left  []string // folders of the account's store with what the job had made ready or moved out of the way
	Marks int      // marks of it that were taken away, so that others may work at its place
	Seen  error    // why the account could not be looked at; nil when it was
}

// GiveUp ends a job whose journal is lost or cannot be read, or that could not be
// undone though it was tried, and cannot be now: its marks leave the account, so
// that another job may work there, and it is recorded as given up. What it had
// begun stays as it is; what lies in the store is named, not touched.
func (d *Service) GiveUp(ctx context.Context, id string) (*GaveUp, error) {
	entry, err := d.ledgerJob(ctx, id)
	if err != nil {
		return nil, err
	}
	out := &GaveUp{Job: entry, Left: []string{}}
	journal, err := job.Open(d.Book.Journals, id, d.Now)
	problem := "its journal is lost"
	if err == nil {
		if err := journal.Close(); err != nil {
			return nil, err
		}
		if out.Job.Outcome != ledger.Incomplete {
			return nil, fault.New(fault.Usage, "the job's journal is there", id, "Undo it: "+fault.Call("undo", id))
		}
		undone, err := d.Undo(ctx, id)
		if err == nil || ctx.Err() != nil || fault.Of(err).Kind == fault.NeedsConfirmation {
			out.Job = undone
			return out, err
		}
		problem = err.Error()
	}
	if errors.Is(err, job.ErrRunning) {
		return nil, fault.New(fault.NeedsConfirmation, "the job is running", id,
			"Wait for its end, or press Ctrl-C where it runs.")
	}
	if out.Job.ID == "" || out.Job.Ended != nil {
		return nil, fault.NewAs(fault.NoSuchJob, fault.Usage, "no job of this id is under way", id,
			"See the jobs with: "+fault.Call("jobs"))
	}
	out.Seen = d.leave(ctx, out)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	now := d.Now().UTC()
	out.Job.Outcome, out.Job.Ended, out.Job.Problem = ledger.GivenUp, &now, problem
	return out, d.Book.Ledger.PutJob(ctx, out.Job)
}

// leave takes a job's marks away from its account, and finds what lies there.
func (d *Service) leave(ctx context.Context, out *GaveUp) error {
	a, err := d.Book.Home.Account(out.Job.Account)
	if err != nil {
		return err
	}
	in, err := d.Hosting.Open(ctx, a)
	if err != nil {
		return err
	}
	defer in.Close()
	store := in.Store()
	id := out.Job.ID
	for _, folder := range []string{store.Stage(id), store.Stage(id + "-closed"), store.Aside(id), store.Kept(id)} {
		there, err := files.Exists(ctx, in.Files, folder)
		if err != nil {
			return err
		}
		if there {
			out.Left = append(out.Left, folder)
		}
	}
	return dropMarks(ctx, in, out)
}

func dropMarks(ctx context.Context, in *hosting.Account, out *GaveUp) error {
	busy := in.Store().Busy()
	there, err := files.Exists(ctx, in.Files, busy)
	if err != nil || !there {
		return err
	}
	inside, err := in.Files.List(ctx, busy)
	if err != nil {
		return err
	}
	for _, i := range inside {
		name := path.Join(busy, i.Name)
		if strings.HasPrefix(i.Name, out.Job.ID+".") { // half a mark, or who has gone on with the job
			if err := files.Drop(ctx, in.Files, name); err != nil {
				return err
			}
		}
		if !strings.HasSuffix(i.Name, ".json") {
			continue
		}
		if m, err := in.ReadMark(ctx, name); err != nil || m.Job != out.Job.ID {
			continue // another's, or none
		}
		if err := in.DropMark(ctx, name, out.Job.ID, busy, in.Store().Top()); err != nil {
			return err
		}
		out.Marks++
	}
	return files.DropEmpty(ctx, in.Files, busy, in.Store().Top())
}
