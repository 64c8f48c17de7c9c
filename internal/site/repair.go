package site

import (
	"context"
	"path"
	"slices"

	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
)

// Repaired is what a repair came to.
type Repaired struct {
	Installed
	Files  []string // that are the release's own again
	Backup *BackedUp
}

// Repair puts the release's own files back where they were changed or are gone,
// after a backup. What was added stays for the owner to judge.
func (s *Service) Repair(ctx context.Context, word string) (*Repaired, error) {
	h, err := s.hold(ctx, word)
	if err != nil {
		return nil, err
	}
	defer h.files.Close()
	e, err := s.begin(h)
	if err != nil {
		return nil, err
	}
	of, err := s.releaseOf(ctx, h.plan)
	if err != nil {
		return nil, err
	}
	found, err := e.compare(ctx, h.plan, h.Entries, of, true)
	if err != nil {
		return nil, err
	}
	done := &Repaired{Files: slices.Sorted(slices.Values(slices.Concat(found.Changed, found.Missing))), Backup: &BackedUp{}}
	if len(done.Files) == 0 {
		return nil, fault.New(fault.Usage, "the files are as the release has them", h.Address, "Nothing is to be repaired.")
	}
	err = e.carryOut(ctx, work{what: "repair", app: h.App, address: h.Address, url: h.URL, request: word, undone: "The site is as it was.", steps: func(context.Context) (steps, error) {
		return e.repairSteps(h, found, done)
	}})
	if err != nil {
		return nil, err
	}
	done.Installed, err = s.installed(ctx, e, h.Address)
	return done, err
}

func (e *env) repairSteps(h *held, found Compared, done *Repaired) (steps, error) {
	claimed, mark := e.claimed(&h.Site)
	kept, err := e.backUp(h, "", nil, done.Backup)
	if err != nil {
		return steps{}, err
	}
	top := path.Join(e.account.Store, "stage")
	stage := path.Join(top, e.job)
	constants := &unpack{env: e, Stage: stage}
	return steps{list: []job.Step{claimed, kept,
		&unpack{env: e, Stage: stage, Top: top, settings: func(ctx context.Context) error {
			for _, c := range h.plan.kit.Config {
				if len(c.Constant) > 0 {
					if err := constants.setConstants(ctx, c); err != nil {
						return err
					}
				}
			}
			return nil
		}},
		&swap{env: e, Label: "Put the release's own files back", list: func(context.Context) ([]move, error) {
			var out []move
			for _, name := range done.Files {
				if contains(found.Changed, name) {
					out = append(out, move{path.Join(h.Folder, name), path.Join(e.asideTop(), name)})
				}
				out = append(out, move{path.Join(stage, name), path.Join(h.Folder, name)})
			}
			return out, nil
		}},
		&checkSite{env: e},
		&saveSite{env: e, Before: h.Site, after: func(context.Context) (ledger.Site, error) {
			x := h.Site
			x.LastBackupAt, x.LastJob, x.Health = &done.Backup.MadeAt, e.job, "good"
			return x, nil
		}},
		&dropFiles{env: e, Label: "Take away what was replaced", Names: []string{e.asideTop()}},
		e.tidyUp(mark)}}, nil
}
