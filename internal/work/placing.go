package work

import (
	"tivset/internal/hosting/helperpage"
	"tivset/internal/plan"
	"tivset/internal/records/job"
	"tivset/internal/step"
)

// Ground makes the steps that come before the files of a site at a new place:
// its secrets are kept, its domain proven, its PHP looked at; its database is
// made, and its folder outside of the web. Sent is the helper page, or nil.
func Ground(t *step.Tools, p *plan.Plan) (list []job.Step, sent *step.PutHelperPage, err error) {
	var secrets job.Step = &step.KeepSecrets{Tools: t, Prefix: p.VaultPrefix()}
	if p.Carried.TakesPlace(p.Address(), p.Account) {
		secrets = step.SecretsOf(t) // those of the site that was are put back with an undo
	}
	list = []job.Step{secrets, step.Prove(t)}
	if sent, err = step.AskPHP(t); err != nil {
		return nil, nil, err
	}
	if sent != nil {
		sent.Functions, sent.Settings = plan.LookedFor(p.Of)
		sent.Fit = func(found helperpage.Found) ([]string, error) { return plan.FitPHP(&p.Site, p.Survey.Bytes, found) }
		list = append(list, sent)
	}
	list = append(list, step.DataSteps(t)...)
	if p.Place.DataFolder != "" {
		list = append(list, &step.MakeFolder{Tools: t, Folder: p.Place.DataFolder})
	}
	return list, sent, nil
}

// Arrival makes the steps that put what is staged in place and prove that it
// works: what is in the way is set aside first. Between are steps that come
// before the check.
func Arrival(t *step.Tools, p *plan.Plan, staged string, sent *step.PutHelperPage, checked *step.CheckSite,
	between ...job.Step) ([]job.Step, error) {
	var list []job.Step
	if len(p.Aside.Entries) > 0 {
		list = append(list, &step.SetAside{Tools: t, From: p.Aside.From, To: t.Store().Aside(t.Job),
			Entries: p.Aside.Entries})
	}
	if checked.Guard != nil {
		covered := checked.Guard.Cover(step.In(staged))
		covered.Arrives = true
		list = append(list, covered)
	}
	list = append(list, &step.PutInPlace{Tools: t, Stage: staged, Target: p.Place.Folder})
	awaited, err := step.Awaited(t)
	if err != nil {
		return nil, err
	}
	if list = append(list, between...); awaited != nil {
		list = append(list, awaited)
	}
	list = append(list, &step.PutIndexPages{Tools: t}, checked)
	if checked.Guard != nil {
		list = append(list, checked.Guard.Uncover())
	}
	around, err := step.Around(t, sent)
	return append(list, around...), err
}
