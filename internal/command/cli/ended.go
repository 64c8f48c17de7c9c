package cli

import (
	"context"
	"time"

	"tivset/internal/check"
	"tivset/internal/plan"
	"tivset/internal/records/ledger"
	"tivset/internal/screen"
	"tivset/internal/step"
	"tivset/internal/work"
	"tivset/internal/work/batch"
	"tivset/internal/work/place"
	"tivset/internal/work/rehearse"
	"tivset/internal/work/requests"
	"tivset/internal/work/rounds"
)

// Ended says what came of one request.
func (a *App) Ended(ctx context.Context, e batch.Ended) error {
	var err error
	switch made, installed := e.(*requests.Installed); {
	case a.JSON:
		err = a.Streams.WriteJSON(EndedJSON(e, a.Streams.ShowPassword))
	case installed:
		a.Streams.Installed(made.Done, a.titleOf(ctx, made.Site.App))
	default:
		a.Streams.Came(e)
	}
	if err == nil && !e.OK() {
		err = Quiet(1)
	}
	return err
}

// titleOf is an app's title; its name where no kit of it is here.
func (a *App) titleOf(ctx context.Context, app string) string {
	if c, _, err := a.Catalogue(ctx); err == nil {
		if e, err := c.Find(app); err == nil {
			return e.Title
		}
	}
	return app
}

// changedJSON is how a job with a site that was there ended.
type changedJSON struct {
	outcomeJSON
	FromBackup  string        `json:"from_backup,omitempty"`
	FromRelease string        `json:"from_release,omitempty"`
	FromAddress string        `json:"from_address,omitempty"`
	Backup      *backedUpJSON `json:"backup,omitempty"`

	Rehearsal *rehearse.Rehearsed `json:"rehearsal,omitempty"`
}

func outcome(what string, r *work.Done) outcomeJSON {
	o := installedJSON(r, false)
	o.Outcome = what
	if o.Checks == nil {
		o.Checks = []check.Checked{}
	}
	o.Warnings, o.Todo = List(o.Warnings), List(o.Todo)
	return o
}

type backedUpJSON struct {
	Outcome   string      `json:"outcome"`
	Site      ledger.Site `json:"site"`
	File      string      `json:"file"`
	Here      bool        `json:"here"` // on this machine, not in the account
	MadeAt    time.Time   `json:"made_at"`
	Files     int         `json:"files"`
	DataBytes int64       `json:"data_bytes"`
	Bytes     int64       `json:"bytes"` // of the backup itself
	SHA256    string      `json:"sha256"`
	Encrypted bool        `json:"encrypted"`
	Warnings  []string    `json:"warnings"`
	Dropped   []string    `json:"deleted"`
}

func newBackedUpJSON(b *step.BackedUp) *backedUpJSON {
	if b == nil {
		return nil
	}
	return &backedUpJSON{"backed up", b.Site, b.File, b.Depot == step.Here, b.MadeAt, b.Files, b.Data, b.Packed,
		b.SHA256, b.Encrypted,
		List(b.Warnings), List(b.Dropped)}
}

// List is never null in JSON.
func List(names []string) []string {
	if names == nil {
		return []string{}
	}
	return names
}

// EndedJSON is the document of what came of one request.
func EndedJSON(e batch.Ended, passwords bool) any {
	what := e.Outcome()
	switch e := e.(type) {
	case *requests.Installed:
		return installedJSON(e.Done, passwords)
	case *requests.There:
		return siteJSON(what, e.Site)
	case *requests.Current:
		return siteJSON(what, e.Site)
	case *requests.AsItWas:
		return map[string]any{"outcome": what, "site": e.Site, "still": append([]check.Checked{}, e.Still...)}
	case *requests.Updated:
		return changedJSON{outcomeJSON: outcome(what, &e.Done.Done), FromRelease: e.From, Backup: newBackedUpJSON(e.Backup),
			Rehearsal: e.Rehearsal}
	case *requests.BackedUp:
		return newBackedUpJSON(e.BackedUp)
	case *requests.Restored:
		return changedJSON{outcomeJSON: outcome(what, &e.Done.Done), FromBackup: e.From, Backup: newBackedUpJSON(e.Backup)}
	case *requests.Placed:
		return changedJSON{outcomeJSON: outcome(what, e.Done), FromAddress: e.From}
	case *requests.Removed:
		return map[string]any{"outcome": what, "job": e.Job, "site": e.Plan.Site, "stays": e.Plan.Stays,
			"backup": newBackedUpJSON(e.Backup), "redirects": List(e.Freed), "warnings": e.Warnings}
	case *requests.Adopted:
		return map[string]any{"outcome": what, "site": e.Site, "checks": e.Examined.Checks}
	case *requests.Repaired:
		return map[string]any{"outcome": what, "site": e.Site, "files": e.Files, "taken_away": e.Taken, "closed": e.Closed,
			"backup": newBackedUpJSON(e.Backup), "checks": e.Checks, "still": append([]check.Checked{}, e.Still...)}
	case requests.Checked:
		return map[string]any{"ok": e.OK(), "sites": []check.Examined(e)}
	case *requests.Rounded:
		return NewRoundJSON(e.Round)
	}
	return map[string]any{"outcome": what}
}

func siteJSON(what string, x ledger.Site) any { return map[string]any{"outcome": what, "site": x} }

// endsJSON is the document of what came of several.
func endsJSON(s *screen.Streams, b *batch.Batch) any {
	all, rows := []any{}, []any{}
	for _, r := range b.Rows {
		row := map[string]any{"line": r.Line, "at": r.At()}
		var document any
		switch there, is := r.Ended.(*requests.There); {
		case r.Err != nil:
			document = s.Failed(r.Err)
			row["outcome"], row["error"] = screen.Outcome(r.Err), document
		case is:
			document = EndedJSON(there, false)
			row["outcome"], row["site"] = there.Outcome(), there.Site
		default:
			document = EndedJSON(r.Ended, s.ShowPassword)
			row["outcome"], row["installed"] = r.Ended.Outcome(), document
		}
		all, rows = append(all, document), append(rows, row)
	}
	if isInstalls(b) {
		return map[string]any{"rows": rows}
	}
	return all
}

// placeJSON is the plan of a copy or a move.
type placeJSON struct {
	*plan.Plan
	Closed int `json:"closed_seconds,omitempty"`
}

// planJSON is the document of the plan of one request.
func planJSON(p *batch.Plan) any {
	if p.Done != nil {
		return EndedJSON(p.Done, false)
	}
	if at, is := p.Shown.(*place.Plan); is {
		return placeJSON{at.Plan, at.Closed}
	}
	return p.Shown
}

// plansJSON is the document of the plans of several.
func plansJSON(s *screen.Streams, b *batch.Batch) any {
	all, rows := []any{}, []any{}
	for _, r := range b.Rows {
		if r.Err != nil {
			all = append(all, s.Failed(r.Err))
			continue
		}
		all = append(all, planJSON(r.Plan))
		row := map[string]any{"line": r.Line, "at": r.At(), "outcome": "there"}
		if r.ToDo() {
			row["outcome"], row["plan"] = "to install", r.Plan.Shown
		}
		rows = append(rows, row)
	}
	if !isInstalls(b) {
		return all
	}
	sum := requests.Sum(b)
	return map[string]any{"rows": rows, "install": sum.Install, "files": sum.Files, "bytes": sum.Bytes,
		"databases": sum.Databases, "warnings": List(sum.Warnings)}
}

func isInstalls(b *batch.Batch) bool { return len(b.Rows) > 0 && b.Rows[0].Request.Kind() == "install" }

// roundJSON is what a round came to, for programs.
type roundJSON struct {
	Outcome string             `json:"outcome"` // done, or another round was under way: busy
	Sites   int                `json:"sites"`
	Seconds float64            `json:"seconds"`
	Lines   []ledger.RoundLine `json:"lines"`
	Unseen  []string           `json:"unseen"` // what could not be looked up
	Unsent  []string           `json:"unsent"` // mails that could not be sent
}

func NewRoundJSON(r *rounds.Round) roundJSON {
	out := roundJSON{"done", r.Sites, r.Took.Seconds(), []ledger.RoundLine{}, []string{}, []string{}}
	if r.Another {
		out.Outcome = "busy"
	}
	for _, l := range r.Lines {
		out.Lines = append(out.Lines,
			ledger.RoundLine{Address: l.Site.Address, What: l.What, Detail: screen.Spelled(l.Detail)})
	}
	for _, err := range r.Unseen {
		out.Unseen = append(out.Unseen, err.Error())
	}
	for _, err := range r.Unsent {
		out.Unsent = append(out.Unsent, err.Error())
	}
	return out
}

// CheckTable shows what was seen.
func (a *App) CheckTable(all []check.Examined) {
	for i, e := range all {
		if i > 0 && !a.Quiet {
			a.Streams.Print("")
		}
		a.Streams.Checks(e)
	}
}
