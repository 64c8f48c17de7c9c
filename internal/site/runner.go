package site

import (
	"context"
	"time"

	"tivset/internal/app/kit"
	"tivset/internal/app/setup"
	"tivset/internal/hosting"
	"tivset/internal/hosting/database"
)

// Runner makes the one runner that all set-up steps of a job share: cookies and
// the page got last go from one to the next. The connection to the database is
// made when the first step needs it. Folder is where the app lies, base the
// address of its pages there.
func (s *Site) Runner(in *hosting.Account, folder, base string, now time.Time) (*setup.Runner, error) {
	values, err := s.Values(now)
	if err != nil {
		return nil, err
	}
	r := &setup.Runner{
		Files: in.Files, Folder: folder, PHP: in.Runtime.PHP, Base: base, Values: values, Secrets: s.Hidden(),
		Visitor: in.Visitor(), Rewriting: s.Kit.Place.Rewriting,
	}
	if s.Data != nil {
		r.Data = &hosting.LazySession{Open: func(ctx context.Context) (database.Session, error) {
			return s.OpenData(ctx, in)
		}}
	}
	return r, nil
}

// CarryOut carries steps of the kit out in the folder where the site's files are.
func (s *Site) CarryOut(ctx context.Context, in *hosting.Account, folder string, steps []kit.Step,
	now time.Time) error {
	run, err := s.Runner(in, folder, s.Place.URL, now)
	if err != nil {
		return err
	}
	if run.Data != nil {
		defer run.Data.Close()
	}
	for _, step := range steps {
		if !s.Holds(step.When) {
			continue
		}
		if err := run.Do(ctx, step); err != nil {
			return err
		}
	}
	return nil
}
