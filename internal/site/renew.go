package site

import (
	"context"
	"path"

	"tivset/internal/fault"
	"tivset/internal/job"
	"tivset/internal/ledger"
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
		swapped := &swapSecrets{env: e, Prefix: vaultName(h.Address, ""), Kept: keptSecrets(e.job), secrets: h.plan.secrets}
		return steps{list: []job.Step{claimed, swapped,
			&makeFolder{env: e, Folder: stage, Mode: 0o700},
			&prepared{env: e, Label: "Write the configuration", do: func(ctx context.Context) error { return e.renewedConfig(ctx, h, stage, &carryConfig{e, stage, before}) }},
			&setPassword{env: e, Address: h.Address, Kept: swapped.Kept},
			&swap{env: e, Label: "Put the configuration in place", list: func(ctx context.Context) ([]move, error) { return e.configMoves(ctx, h, stage) }},
			&checkSite{env: e},
			&saveSite{env: e, Before: h.Site, after: func(context.Context) (ledger.Site, error) {
				x := h.Site
				x.LastJob = e.job
				return x, nil
			}},
			&dropFiles{env: e, Label: "Take away what was replaced", Names: []string{e.asideTop()}},
			e.tidyUp(mark)}}, nil
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

// setPassword carries out the kit's steps that set the admin's password to the
// one in the vault; and back to the one kept there.
type setPassword struct {
	*env    `json:"-"`
	Address string `json:"address"`
	Kept    string `json:"kept"`
}

func (*setPassword) Kind() string  { return "set-password" }
func (*setPassword) Title() string { return "Set the new password" }

func (s *setPassword) Do(ctx context.Context) error {
	now, err := s.Vault.Get(vaultName(s.Address, adminPassword))
	if err != nil {
		return err
	}
	return s.set(ctx, now)
}

func (s *setPassword) Undo(ctx context.Context) error {
	before, err := s.Vault.Get(s.Kept + adminPassword)
	if err != nil {
		return nil // it was not begun
	}
	return s.set(ctx, before)
}

func (s *setPassword) set(ctx context.Context, password secret.Text) error {
	x, err := s.Ledger.Site(ctx, s.Address)
	if err != nil {
		return err
	}
	p, err := s.planOf(x)
	if err != nil {
		return err
	}
	p.secrets[adminPassword], p.password = password, password
	e := *s.env
	e.plan = p
	run, err := e.runner(ctx, x.Folder, x.URL)
	if err != nil {
		return err
	}
	if run.Data != nil {
		defer run.Data.Close()
	}
	for _, step := range p.kit.Renew {
		if !holds(step.When, p.answers) {
			continue
		}
		if err := run.Do(ctx, step); err != nil {
			return err
		}
	}
	return nil
}
