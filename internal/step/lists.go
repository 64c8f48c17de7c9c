package step

import (
	"context"
	"path"
	"slices"

	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/app/setup"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/helperpage"
	"tivset/internal/question"
	"tivset/internal/records/job"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// DataSteps make the steps that give a new site its database.
func DataSteps(t *Tools) []job.Step {
	switch d := t.Site.Data; {
	case d == nil:
		return nil
	case t.Site.Server.InFiles():
		return []job.Step{
			&MakeFolder{Tools: t, Folder: path.Dir(database.File(t.Site.Server.Server, d.Name)), Mode: 0o770},
			&MakeDatabase{Tools: t, Server: d.Server, Name: d.Name}}
	case d.From == question.DataNew:
		return []job.Step{
			&MakeDatabase{Tools: t, Server: d.Server, Name: d.Name},
			&MakeUser{Tools: t, Server: d.Server, Name: d.User, Clients: d.Clients, Database: d.Name}}
	default:
		return []job.Step{&UseDatabase{Tools: t, Server: d.Server, Engine: d.Engine, Name: d.Name, User: d.User,
			Tables: d.Tables,
			Secret: site.VaultName(t.Site.Address(), site.DataPassword), Place: t.Site.HelperPagePlace()}}
	}
}

// LostData makes the steps that make the site's database and user again that
// somebody took away; none where they are there.
func LostData(ctx context.Context, t *Tools) ([]job.Step, error) {
	d := t.Site.Data
	if d == nil || d.From != question.DataNew {
		return nil, nil
	}
	server, err := t.In.Connect(ctx, t.Site.Server)
	if err != nil {
		return nil, err
	}
	defer server.Close()
	var steps []job.Step
	databases, err := server.Databases(ctx)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(databases, d.Name) {
		steps = append(steps, &MakeDatabase{Tools: t, Server: d.Server, Name: d.Name})
	}
	if d.User == "" {
		return steps, nil
	}
	users, err := server.Users(ctx)
	if err == nil && !slices.Contains(users, d.User) {
		steps = append(steps, &MakeUser{Tools: t, Server: d.Server, Name: d.User, Clients: t.Site.Server.Clients,
			Database: d.Name})
	}
	return steps, err
}

// AskPHP makes the step that asks the place's PHP, where the app needs one or
// its database is seen only from inside; nil elsewhere.
func AskPHP(t *Tools) (*PutHelperPage, error) {
	s := t.Site
	if s.Of.Needs.PHP == nil && (s.Server == nil || !s.Server.FromInside()) {
		return nil, nil
	}
	at, err := t.In.HelperPageAt(s.At.Domain)
	return &PutHelperPage{Tools: t, Place: at, Fit: func(helperpage.Found) ([]string, error) { return nil, nil }}, err
}

// Prove makes the step that proves that the site's domain leads to its folder.
func Prove(t *Tools) *ProveDomain {
	d := t.Site.At.Domain
	return &ProveDomain{Tools: t, Folder: d.Folder, URL: d.URL, Name: "tivset-" + t.Job + ".txt"}
}

// Around makes the steps that follow the check of a new site: its timers, and
// the end of a helper page, nil for none.
func Around(t *Tools, sent *PutHelperPage) ([]job.Step, error) {
	timers, err := TimersOf(t)
	if err != nil {
		return nil, err
	}
	var list []job.Step
	if timers != nil {
		list = append(list, timers)
	}
	if sent != nil {
		list = append(list, &TakeHelperPage{Tools: t, Place: sent.Place})
	}
	return list, nil
}

// named puts a step's values into its label; secrets stay out of it.
func named(label string, run *setup.Runner) string {
	text, err := fill.Text(label, run.Values)
	if err != nil {
		return label
	}
	return secret.Hide(text, run.Secrets)
}

// SetUps makes one step for each of a kit's that applies to the site. Label
// words one; of is the stage that they are of, "" for the usual.
func SetUps(t *Tools, steps []kit.Step, run *setup.Runner, of job.Stage, label func(kit.Step) string) []job.Step {
	var out []job.Step
	for i, s := range steps {
		if t.Site.Holds(s.When) {
			out = append(out, &SetUp{Tools: t, Phase: Phase{of}, N: i, Label: named(label(s), run), Still: s.Kind().Still,
				Step: s, Run: run})
		}
	}
	return out
}
