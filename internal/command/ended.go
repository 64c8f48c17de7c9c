package command

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
)

// ended says what came of one request.
func (a *app) ended(ctx context.Context, e batch.Ended) error {
	var err error
	switch made, installed := e.(*requests.Installed); {
	case a.json:
		err = a.streams.WriteJSON(endedJSON(e, a.streams.ShowPassword))
	case installed:
		a.streams.Installed(made.Done, a.titleOf(ctx, made.Site.App))
	default:
		a.streams.Came(e)
	}
	if err == nil && !e.OK() {
		err = &silent{1}
	}
	return err
}

// titleOf is an app's title; its name where no kit of it is here.
func (a *app) titleOf(ctx context.Context, app string) string {
	if c, _, err := a.catalogue(ctx); err == nil {
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
	o.Warnings, o.Todo = list(o.Warnings), list(o.Todo)
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
	Dropped   []string    `json:"dropped"`
}

func newBackedUpJSON(b *step.BackedUp) *backedUpJSON {
	if b == nil {
		return nil
	}
	return &backedUpJSON{"backed up", b.Site, b.File, b.Here, b.MadeAt, b.Files, b.Data, b.Packed, b.SHA256, b.Encrypted,
		list(b.Warnings), list(b.Dropped)}
}

// list is never null in JSON.
func list(names []string) []string {
	if names == nil {
		return []string{}
	}
	return names
}

// endedJSON is the document of what came of one request.
func endedJSON(e batch.Ended, passwords bool) any {
	what := e.Outcome()
	switch e := e.(type) {
	case *requests.Installed:
		return installedJSON(e.Done, passwords)
	case *requests.There:
		return siteJSON(what, e.Site)
	case *requests.Current:
		return siteJSON(what, e.Site)
	case *requests.AsItWas:
		return siteJSON(what, e.Site)
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
			"backup": newBackedUpJSON(e.Backup), "warnings": e.Warnings}
	case *requests.Adopted:
		return map[string]any{"outcome": what, "site": e.Site, "checks": e.Examined.Checks}
	case *requests.Repaired:
		return map[string]any{"outcome": what, "site": e.Site, "files": e.Files, "taken_away": e.Taken, "closed": e.Closed,
			"backup": newBackedUpJSON(e.Backup), "checks": e.Checks}
	case requests.Checked:
		return map[string]any{"ok": e.OK(), "sites": []check.Examined(e)}
	case *requests.Rounded:
		return newRoundJSON(e.Round)
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
			document = endedJSON(there, false)
			row["outcome"], row["site"] = there.Outcome(), there.Site
		default:
			document = endedJSON(r.Ended, s.ShowPassword)
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
		return endedJSON(p.Done, false)
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
		"databases": sum.Databases, "warnings": list(sum.Warnings)}
}

func isInstalls(b *batch.Batch) bool { return len(b.Rows) > 0 && b.Rows[0].Request.Kind() == "install" }
