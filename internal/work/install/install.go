// Package install is the way of a new app into an account: what the plan says is
// carried out, checked and recorded, or taken back.
package install

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/records/job"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/step"
	"tivset/internal/work"
)

// Way is this way's line in the table.
func Way() work.Operation {
	return work.Operation{Name: "install", Past: "installed", New: true, Again: again}
}

// asked is what the journal keeps of a request, to carry it out again.
type asked struct {
	answer.File
	Generated bool     `json:"generated"` // the admin's password was made, not given
	Secrets   []string `json:"secrets"`   // the secrets among the answers, by their names in the vault
}

// Install carries out a plan. It returns either the checked site, or a fault
// after everything was undone (Failed) or with something left (Left).
func Install(ctx context.Context, d *work.Service, p *plan.Plan) (*work.Done, error) {
	in, err := d.Hosting.Open(ctx, p.In)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	t, err := d.Begin(in, &p.Site)
	if err != nil {
		return nil, err
	}
	err = d.CarryOut(ctx, t, work.Job{Way: Way(), Request: asked{p.Saved(), p.Admin.Generated, p.GivenSecrets()},
		List: func(context.Context) (job.List, func(), error) { return steps(t, p) }})
	if err != nil {
		return nil, err
	}
	done, err := d.Done(ctx, t, p.Warnings...)
	if err != nil {
		return nil, err
	}
	done.Given, done.Todo = !p.Admin.Generated, p.Todo
	if warning := handOver(ctx, d, p, &done); warning != "" {
		done.Warnings = append(done.Warnings, warning)
	} else {
		done.HandedTo = p.Answers["handover.to"]
	}
	return &done, nil
}

// steps lists the steps of the install.
func steps(t *step.Tools, p *plan.Plan) (job.List, func(), error) {
	stage, err := step.StageFor(t, p.Kit.ByForms())
	if err != nil {
		return job.List{}, nil, err
	}
	run, err := p.Runner(t.In, stage.Folder, stage.Base, t.Now())
	if err != nil {
		return job.List{}, nil, err
	}
	done := func() {
		if run.Data != nil {
			_ = run.Data.Close()
		}
	}
	address := p.Address()
	list := []job.Step{step.ClaimOf(t, address, nil)}
	ground, sent, err := work.Ground(t, p)
	if err != nil {
		return job.List{}, nil, err
	}
	list = append(list, ground...)
	list = append(list, step.UnpackInto(t, stage, step.Archived{File: p.Archive, Files: p.Survey.Files,
		Configs: p.Configs}))
	list = append(list, step.SetUps(t, p.Kit.Setup, run, "", kit.Step.Label)...)
	list = append(list, step.Configured(t, stage, p.Configs)...)
	if p.Kit.ByForms() {
		list = append(list, step.LeaveStage(t, stage))
	}
	arrival, err := work.Arrival(t, p, stage.Folder, sent, &step.CheckSite{Tools: t, Asked: true})
	if err != nil {
		return job.List{}, nil, err
	}
	return job.List{Steps: append(list, arrival...),
		Commit: &step.RecordSite{Tools: t, Address: address, SetAside: p.Changes.SetAside},
		Finish: []job.PostCommit{step.TidyUp(t, address, cmp.Or(stage.Veil, stage.Folder))}}, done, nil
}

// again installs the same with the same answers and the same password. The
// secrets among them are read before an undo drops them.
func again(_ context.Context, d *work.Service, h job.Header) (func(context.Context) (*work.Done, error), error) {
	var before asked
	if err := json.Unmarshal(h.Request, &before); err != nil {
		return nil, work.NotSaid(h.ID, err)
	}
	r := plan.Request{App: before.Install, At: before.At, Release: before.Release, Account: h.Account,
		Answers: before.Answers}
	secrets, missing, err := remembered(d, h, before)
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context) (*work.Done, error) {
		if missing != "" {
			return nil, fault.New(fault.Usage, "a secret that was given is not kept any more", h.ID+", "+missing,
				"What was begun was undone; install again.")
		}
		for id, v := range secrets {
			r.Answers[id] = v.Reveal()
		}
		p, err := d.Planner.Plan(ctx, r)
		if err != nil {
			return nil, err
		}
		return Install(ctx, d, p)
	}, nil
}

// remembered reads the secrets among the answers, which the job had put into the
// vault, by the ids of the answers. Missing is one that is not there any more.
func remembered(d *work.Service, h job.Header, before asked) (secrets map[string]secret.Text, missing string,
	err error) {
	secrets = map[string]secret.Text{}
	for _, name := range before.Secrets {
		kept, err := d.Book.Vault.Get(site.VaultName(h.Address, name))
		if errors.Is(err, fs.ErrNotExist) {
			if name != site.AdminPassword || !before.Generated { // else another is made
				missing = name
			}
			continue
		}
		if err != nil {
			return nil, "", err
		}
		secrets[strings.TrimPrefix(name, site.AskedSecret(""))] = kept
	}
	return secrets, missing, nil
}
