package site

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/secret"
)

// again is what the journal keeps of a request, to carry it out again.
type again struct {
	answer.File
	Generated bool     `json:"generated"` // the admin's password was made, not given
	Secrets   []string `json:"secrets"`   // the secrets among the answers, by their names in the vault
}

// Resumed is a job that was brought to its end.
type Resumed struct {
	Installed
	What string // install, update, …
	Gone bool   // the site was removed
}

// Resume brings a job that was cut off to its end. One that had settled is
// finished. Of any other, what was begun is taken back, for nobody knows how
// far its last step had come, and the same is done again: an install with the
// same answers and the same password.
func (s *Service) Resume(ctx context.Context, id string) (*Resumed, error) {
	header, err := s.headerOf(id)
	if err != nil {
		return nil, err
	}
	if header.What == "install" {
		done, err := s.resumeInstall(ctx, id)
		if err != nil {
			return nil, err
		}
		return &Resumed{Installed: *done, What: header.What}, nil
	}
	entry, err := s.Undo(ctx, id)
	if err != nil {
		return nil, err
	}
	if entry.Outcome == "undone" {
		return s.again(ctx, header)
	}
	return s.resumed(ctx, header, id)
}

// resumed tells what a job came to that was finished.
func (s *Service) resumed(ctx context.Context, header job.Header, id string) (*Resumed, error) {
	r := &Resumed{What: header.What}
	found, err := s.Ledger.Site(ctx, header.Address)
	if errors.Is(err, fs.ErrNotExist) {
		r.Gone = true
		r.Installed.Site.Address = header.Address
		return r, nil
	}
	s.fillIn(&found)
	r.Installed = Installed{Job: id, Site: found, Given: true, Checks: []Checked{}, Warnings: []string{}, Todo: []string{}}
	return r, err
}

// again does what a job was asked for.
func (s *Service) again(ctx context.Context, header job.Header) (*Resumed, error) {
	ask := func(into any) error { return json.Unmarshal(header.Request, into) }
	var err error
	switch header.What {
	case "update":
		var r UpdateRequest
		if err = ask(&r); err == nil {
			_, err = s.updateTo(ctx, r)
		}
	case "back up":
		var r BackupRequest
		if err = ask(&r); err == nil {
			_, err = s.Backup(ctx, r)
		}
	case "restore":
		var r RestoreRequest
		if err = ask(&r); err == nil {
			_, err = s.Restore(ctx, r)
		}
	case "remove":
		var r RemoveRequest
		if err = ask(&r); err == nil {
			err = s.removeAgain(ctx, r)
		}
	case "copy", "move":
		var r CopyRequest
		if err = ask(&r); err == nil {
			err = s.copyAgain(ctx, r)
		}
	case "renew", "repair":
		var word string
		if err = ask(&word); err == nil && header.What == "renew" {
			_, err = s.Renew(ctx, word)
		} else if err == nil {
			_, err = s.Repair(ctx, word)
		}
	default:
		return nil, fault.New(fault.Usage, "the journal does not say what was asked for", header.ID, "What was begun was taken back; give the command again.")
	}
	if err != nil {
		return nil, err
	}
	return s.resumed(ctx, header, header.ID)
}

func (s *Service) removeAgain(ctx context.Context, r RemoveRequest) error {
	p, err := s.PlanRemove(ctx, r)
	if err != nil {
		return err
	}
	defer p.Close()
	_, err = s.Remove(ctx, p)
	return err
}

func (s *Service) copyAgain(ctx context.Context, r CopyRequest) error {
	p, err := s.PlanCopy(ctx, r)
	if err != nil {
		return err
	}
	defer p.Close()
	_, err = s.Copy(ctx, p)
	return err
}

// headerOf reads the first line of a job's journal.
func (s *Service) headerOf(id string) (job.Header, error) {
	journal, err := job.Open(s.Home.Journals(), id, s.Now)
	if errors.Is(err, job.ErrRunning) {
		return job.Header{}, running(id)
	}
	if err != nil {
		return job.Header{}, err
	}
	return journal.Header, journal.Close()
}

// resumeInstall finishes an install, or installs the same again.
func (s *Service) resumeInstall(ctx context.Context, id string) (*Installed, error) {
	request, secrets, err := s.remembered(id)
	if err != nil {
		return nil, err
	}
	entry, err := s.Undo(ctx, id)
	if err != nil {
		return nil, err
	}
	if entry.Outcome == "installed" {
		found, err := s.Site(ctx, entry.Address)
		if err != nil {
			return nil, err
		}
		kept, err := s.Vault.Get(vaultName(entry.Address, adminPassword))
		return &Installed{Job: id, Site: found, Password: kept, Checks: []Checked{}, Warnings: []string{}, Todo: []string{}}, err
	}
	for id, v := range secrets {
		request.Answers[id] = v.Reveal()
	}
	plan, err := s.Plan(ctx, request)
	if err != nil {
		return nil, err
	}
	return s.Install(ctx, plan)
}

// remembered reads what a job was asked for, and the secrets among the answers,
// which it had put into the vault.
func (s *Service) remembered(id string) (Request, map[string]secret.Text, error) {
	var r Request
	journal, err := job.Open(s.Home.Journals(), id, s.Now)
	if errors.Is(err, job.ErrRunning) {
		return r, nil, running(id)
	}
	if err != nil {
		return r, nil, err
	}
	header := journal.Header
	if err := journal.Close(); err != nil {
		return r, nil, err
	}
	var before again
	if err := json.Unmarshal(header.Request, &before); err != nil {
		return r, nil, fault.New(fault.Usage, "the journal does not say what was asked for", id, "Take it back with: tivset undo "+id).Because(err)
	}
	r = Request{App: before.Install, At: before.At, Release: before.Release, Account: header.Account, Answers: before.Answers}
	secrets := map[string]secret.Text{}
	for _, name := range before.Secrets {
		kept, err := s.Vault.Get(vaultName(header.Address, name))
		if errors.Is(err, fs.ErrNotExist) {
			if name == adminPassword && before.Generated {
				continue // another is made
			}
			if journal.Ended == "" {
				return r, nil, fault.New(fault.Usage, "a secret that was given is not kept any more", id+", "+name, "Take the job back with tivset undo "+id+", and install again.")
			}
			continue
		}
		if err != nil {
			return r, nil, err
		}
		secrets[strings.TrimPrefix(name, "ask.")] = kept
	}
	return r, secrets, nil
}

func running(id string) error {
	return fault.New(fault.Decision, "the job is running", id, "Wait for its end, or press Ctrl-C where it runs.")
}
