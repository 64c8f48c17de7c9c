package site

import (
	"context"
	"path"

	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
)

// renewedLength is how long a new password is, in characters.
const renewedLength = 20

// Renew gives a site's admin a new password by the kit's means, and signs in
// with it.
func (s *Service) Renew(ctx context.Context, word string) (Credentials, error) {
	h, err := s.hold(ctx, word)
	if err != nil {
		return Credentials{}, err
	}
	defer h.files.Close()
	k := h.plan.kit
	if k.AccountElsewhere() {
		return Credentials{}, fault.New(fault.Usage, k.Title+" does not keep the admin's password itself", h.Address, "Change it where the account is made.")
	}
	if len(k.Renew) == 0 && !k.Uses(adminPassword) {
		return Credentials{}, fault.New(fault.Usage, "the kit of "+k.Title+" does not say how to set a new password", h.Address, "Set it on the admin side.")
	}
	made, err := s.Maker.Password(renewedLength, secret.Alnum)
	if err != nil {
		return Credentials{}, err
	}
	e, err := s.begin(h)
	if err != nil {
		return Credentials{}, err
	}
	before, err := h.plan.values(s.Now())
	if err != nil {
		return Credentials{}, err
	}
	h.plan.secrets[adminPassword], h.plan.password = made, made
	err = e.carryOut(ctx, work{what: "renew", app: h.App, address: h.Address, url: h.URL, request: word, undone: "The password is what it was.", steps: func(ctx context.Context) (steps, error) {
		claimed, mark := e.claimed(&h.Site)
		stage := path.Join(e.account.Store, "stage", e.job)
		list := []job.Step{claimed, &swapSecrets{env: e, Prefix: vaultName(h.Address, ""), Kept: keptSecrets(e.job), secrets: h.plan.secrets},
			&makeFolder{env: e, Folder: stage, Mode: 0o700},
			&prepared{env: e, Label: "Write the configuration", do: func(ctx context.Context) error { return e.renewedConfig(ctx, h, stage, &carryConfig{e, stage, before}) }}}
		if len(k.Renew) > 0 && h.Database != nil {
			list = append(list, &keepData{env: e, Data: e.dataOf(h.Database, h.Address), File: e.keptData(e.job)})
		}
		return steps{list: append(list, &setPassword{env: e},
			&swap{env: e, Label: "Put the configuration in place", list: func(ctx context.Context) ([]move, error) { return e.configMoves(ctx, h, stage) }},
			&checkSite{env: e},
			&saveSite{env: e, Before: h.Site, after: func(context.Context) (ledger.Site, error) {
				x := h.Site
				x.LastJob = e.job
				return x, nil
			}},
			&dropFiles{env: e, Label: "Take away what was replaced", Names: []string{e.asideTop()}},
			e.tidyUp(mark))}, nil
	}})
	if err != nil {
		return Credentials{}, err
	}
	return s.Reveal(ctx, h.Address)
}

// renewedConfig writes the configuration files that hold the password into a
// stage.
func (e *env) renewedConfig(ctx context.Context, h *held, stage string, carry *carryConfig) error {
	if err := e.copyConfig(ctx, h.plan, h.Folder, stage, true); err != nil {
		return err
	}
	return carry.do(ctx)
}

// configMoves lists the moves that put the stage's files in the place of the
// site's.
func (e *env) configMoves(ctx context.Context, h *held, stage string) ([]move, error) {
	var out []move
	for _, c := range h.plan.kit.Config {
		out = append(out, move{path.Join(h.Folder, c.Path), path.Join(e.asideTop(), c.Path)}, move{path.Join(stage, c.Path), path.Join(h.Folder, c.Path)})
	}
	return out, ctx.Err()
}

// setPassword carries out the kit's steps that set the admin's password. The
// step before it puts back what they change.
type setPassword struct {
	*env `json:"-"`
}

func (*setPassword) Kind() string  { return "set-password" }
func (*setPassword) Title() string { return "Set the new password" }

func (*setPassword) Undo(context.Context) error { return nil }

func (s *setPassword) Do(ctx context.Context) error {
	run, err := s.runner(ctx, s.plan.Place.Folder, s.plan.Place.URL)
	if err != nil {
		return err
	}
	if run.Data != nil {
		defer run.Data.Close()
	}
	for _, step := range s.plan.kit.Renew {
		if !holds(step.When, s.plan.answers) {
			continue
		}
		if err := run.Do(ctx, step); err != nil {
			return err
		}
	}
	return nil
}
