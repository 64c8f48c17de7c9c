package requests

import (
	"bytes"
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/answer/table"
	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/records/ledger"
	"tivset/internal/suggest"
	"tivset/internal/work"
	"tivset/internal/work/batch"
	"tivset/internal/work/install"
)

// Install asks for an app at an address.
type Install struct {
	plan.Request
	Again bool `json:",omitempty"` // the app that is at the address already is what was asked for

	planned *plan.Plan
}

// Planned is the install of a plan that was made already, in a conversation.
func Planned(p *plan.Plan) *Install { return &Install{planned: p} }

// Kind implements batch.Request.
func (*Install) Kind() string { return "install" }

func (r *Install) files() []File { return []File{{Name: &r.Archive}} }

// Where implements batch.Request.
func (r *Install) Where(_ context.Context, d *work.Service) (batch.Where, error) {
	return placed(d, r.Account, r.At)
}

// Plan implements batch.Request.
func (r *Install) Plan(ctx context.Context, d *work.Service) (*batch.Plan, error) {
	if there, err := r.there(ctx, d); there != nil || err != nil {
		return there, err
	}
	p := r.planned
	if p == nil {
		var err error
		if p, err = d.Planner.Plan(ctx, r.Request); err != nil {
			return nil, err
		}
	}
	out := &batch.Plan{Where: batch.Where{Address: p.Address(), Account: p.In, Folder: p.Place.Folder}, At: p.Place.URL,
		Bytes: p.Changes.Bytes, Shown: p}
	if p.Data != nil {
		out.Server = p.Data.Server
	}
	out.Do = func(ctx context.Context, d *work.Service) (batch.Ended, error) {
		done, err := install.Install(ctx, d, p)
		return &Installed{done}, err
	}
	return out, nil
}

// there is the plan where the app is at the address already, and that is what was asked for.
func (r *Install) there(ctx context.Context, d *work.Service) (*batch.Plan, error) {
	if !r.Again {
		return nil, nil
	}
	for id, value := range map[string]string{"app": r.App, "at": r.At} {
		if value == "" {
			return nil, fault.Join("", "", []fault.Problem{{ID: id, What: fault.Needed, Remedy: "Fill it in."}})
		}
	}
	if known, err := d.Book.Knows(ctx, r.At); err != nil || !known {
		return nil, nil // the planner says what stands against it
	}
	x, err := d.Book.Find(ctx, r.At)
	if err != nil || x.App != r.App {
		return nil, err
	}
	where, err := recorded(ctx, d, x.Address)
	return &batch.Plan{Where: where, Done: &There{x}}, err
}

// Installed is what came of an install.
type Installed struct{ *work.Done }

// Outcome implements batch.Ended.
func (*Installed) Outcome() string { return "installed" }

// OK implements batch.Ended.
func (*Installed) OK() bool { return true }

// There is what came of an install that was made before.
type There struct{ Site ledger.Site }

// Outcome implements batch.Ended.
func (*There) Outcome() string { return "there" }

// OK implements batch.Ended.
func (*There) OK() bool { return true }

// notAnswers are the columns of a table of installs that are no answers.
var notAnswers = []string{"app", "at", "release"}

// common are answers that a column gives even where a text has a place for it.
var common = []string{"title", answer.Subtitle, "language", answer.AdminName, answer.AdminEmail}

// labelColumn is what the column of a label begins with.
const labelColumn = "label."

// labelsOf are the labels of a row: those of all, and those of columns of its own.
func labelsOf(row table.Row, all map[string]string) (labels map[string]string, columns []string) {
	labels = maps.Clone(all)
	for column, value := range row.Values {
		name, is := strings.CutPrefix(column, labelColumn)
		if !is {
			continue
		}
		columns = append(columns, column)
		if labels == nil {
			labels = map[string]string{}
		}
		if value != "" {
			labels[name] = value
		}
	}
	return labels, columns
}

// Installs are the installs of a table. What it has no column for comes from all, whose texts may
// have places for columns.
func Installs(t table.Table, all plan.Request) ([]*batch.Row, error) {
	for _, name := range []string{"app", "at"} {
		given := map[string]string{"app": all.App, "at": all.At}[name]
		if given == "" && !slices.Contains(t.Columns, name) {
			return nil, fault.New(fault.Usage, "the table has no column "+name, strings.Join(t.Columns, ", "),
				strings.TrimSpace(suggest.Hint(name, t.Columns)+" Add it, or give it for all rows with the command."))
		}
	}
	var out []*batch.Row
	for _, row := range t.Rows {
		used := batch.Used(row, all.Answers, all.App, all.At, all.Release, row.Values["at"])
		for name := range used {
			if _, given := all.Answers[name]; given || slices.Contains(common, name) {
				delete(used, name)
			}
		}
		one := all
		labels, columns := labelsOf(row, all.Labels)
		one.Answers, one.Labels = batch.Answers(row, all.Answers, used, append(columns, notAnswers...)...), labels
		r := &batch.Row{Row: row}
		one.App, one.At, one.Release = r.Value("app", row.Fill(all.App)), row.Fill(r.Value("at", all.At)),
			r.Value("release", row.Fill(all.Release))
		r.Site, r.Request = one.At, &Install{Request: one, Again: true}
		out = append(out, r)
	}
	return out, nil
}

// strictly reads JSON, and refuses what it has no place for.
func strictly(text []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	return d.Decode(into)
}

// Total is what installs come to together.
type Total struct {
	Install   int // how many are made
	Files     int
	Bytes     int64
	Databases int
	Warnings  []string // each once, though it may be of several
}

// Sum gives what the installs of a batch come to together, once they were looked at.
func Sum(b *batch.Batch) (t Total) {
	for _, r := range b.Rows {
		if !r.ToDo() {
			continue
		}
		p, is := r.Plan.Shown.(*plan.Plan)
		if !is {
			continue
		}
		t.Install++
		t.Files += p.Changes.Files
		t.Bytes += p.Changes.Bytes
		t.Databases += len(p.Changes.Databases)
		for _, w := range p.Warnings {
			if !slices.Contains(t.Warnings, w) {
				t.Warnings = append(t.Warnings, w)
			}
		}
	}
	return t
}
