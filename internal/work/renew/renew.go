// Package renew is the way of a site to a new password of its admin: set by the
// kit's means, and signed in with.
package renew

import (
	"context"
	"path"

	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/step"
	"tivset/internal/work"
)

// Way is this way's line in the table.
func Way() work.Operation {
	return work.Operation{Name: "renew", Past: "renewed",
		Again: work.AgainWith(func(ctx context.Context, d *work.Service, word string) error {
			_, err := Renew(ctx, d, word)
			return err
		})}
}

// length is how long a new password is, in characters.
const length = 20

// Renew gives a site's admin a new password, and signs in with it.
func Renew(ctx context.Context, d *work.Service, word string) (site.Credentials, error) {
	var none site.Credentials
	h, err := d.Hold(ctx, word)
	if err != nil {
		return none, err
	}
	defer h.Close()
	d.AsItIs(ctx, h)
	k := h.Of.Kit
	if k.AccountElsewhere() {
		return none, fault.New(fault.Usage, k.Title+" does not keep the admin's password itself", h.Address,
			"Change it where the account is made.")
	}
	if !k.RenewsPassword() {
		return none, fault.New(fault.Usage, "the kit of "+k.Title+" does not say how to set a new password", h.Address,
			"Set it on the admin area.")
	}
	made, err := d.Maker.Password(length, secret.Alnum)
	if err != nil {
		return none, err
	}
	t, err := d.Begin(h.In, h.Of.With(map[string]secret.Text{site.AdminPassword: made}))
	if err != nil {
		return none, err
	}
	err = d.CarryOut(ctx, t, work.Job{Way: Way(), Request: word, Undone: "The password is what it was.",
		List: func(context.Context) (job.List, func(), error) {
			list, err := steps(t, h)
			return list, nil, err
		}})
	if err != nil {
		return none, err
	}
	shown, err := d.Book.Reveal(context.WithoutCancel(ctx), h.Address)
	if err != nil {
		return none, fault.New(fault.Incomplete, "the password is a new one, and could not be shown", h.Address,
			"It is in the vault; see it with: "+fault.Call("reveal", h.Address)).Wrap(err)
	}
	return shown, nil
}

func steps(t *step.Tools, h *work.Held) (job.List, error) {
	before, err := h.Of.Values(t.Now())
	if err != nil {
		return job.List{}, err
	}
	stage := t.Store().Stage(t.Job)
	list := []job.Step{step.ClaimOf(t, h.Address, &h.Site), step.SecretsOf(t),
		&step.MakeFolder{Tools: t, Folder: stage, Mode: 0o700}}
	// Pages of the app's can only be asked while it answers.
	folder, closed, guard := h.Folder, (*step.Close)(nil), (*step.Guard)(nil)
	if !kit.ByForms(h.Of.Kit.Renew) {
		if guard, err = step.GuardOf(t); err != nil {
			return job.List{}, err
		}
		closed = step.CloseOf(t, h.Of, h.Site)
		folder, list = closed.ParkedDir, append(list, guard.Look(h.Folder), closed)
	}
	list = append(list, &step.FuncStep{Label: "Write the configuration", Work: func(ctx context.Context) error {
		if err := t.CopyConfig(ctx, folder, stage, true); err != nil {
			return err
		}
		return t.CarryConfig(ctx, stage, before)
	}})
	if len(h.Of.Kit.Renew) > 0 && h.Database != nil {
		list = append(list, step.KeptData(t, step.DataOf(h.Of, h.Address)))
	}
	list = append(list, &step.SetPassword{Tools: t, Folder: folder})
	if guard != nil {
		list = append(list, guard.Cover(step.In(folder)))
	}
	list = append(
		list,
		&step.Swap{
			Tools:   t,
			Label:   "Put the configuration in place",
			Reopens: closed,
			List: func(context.Context) ([]files.Move, error) {
				out := moves(t, h, folder, stage)
				if closed != nil {
					out = append(out, closed.Opening()...)
				}
				return out, nil
			},
		},
		&step.CheckSite{Tools: t, Guard: guard},
	)
	if guard != nil {
		list = append(list, guard.Uncover())
	}
	return job.List{Steps: list, Commit: step.Saved(t, h.Site, func(x *ledger.Site) { x.LastJob = t.Job }),
		Finish: []job.PostCommit{step.DropReplaced(t, "Take away what was replaced"), step.TidyUp(t, h.Address, "")}}, nil
}

// moves lists the moves that put the stage's configuration in the place of the
// site's, whose files are in a folder.
func moves(t *step.Tools, h *work.Held, folder, stage string) []files.Move {
	var out []files.Move
	for _, c := range h.Of.Kit.Config {
		here := path.Join(folder, c.Path)
		out = append(out, files.Move{From: here, To: path.Join(t.Store().Aside(t.Job), "replaced", c.Path)},
			files.Move{From: path.Join(stage, c.Path), To: here})
	}
	return out
}
