package command

import (
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/answer/table"
	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/screen"
	"tivset/internal/work/batch"
)

// installTable installs every row of a table.
func (a *app) installTable(ctx context.Context, o *installOptions) error {
	switch {
	case o.archive != "" || o.copyPassword || o.saveAnswers != "" || o.keepFailed:
		return fault.New(fault.Usage, "--archive, --copy, --save-answers and --keep-failed are for one site", "--table",
			"Leave them out.")
	case o.atOnce < 1:
		return fault.New(fault.Usage, "at least one site has to be installed at once", "--at-once",
			"Give a number from 1 on.")
	}
	text, err := a.readTable(o.table)
	if err != nil {
		return err
	}
	rows, err := table.Read(text)
	if err != nil {
		return err
	}
	all, err := a.request(o)
	if err != nil {
		return err
	}
	s, done, err := a.core(ctx)
	if err != nil {
		return err
	}
	defer done()
	a.remind(ctx, s)
	p, err := batch.Look(ctx, s.Desk, batch.Request{Table: rows, All: all})
	if err != nil {
		return err
	}
	if p.Install > 0 || a.dryRun {
		if err := a.agree(ctx, a.streams.ReviewMany(p), "Install all of them?", tableJSON(p)); err != nil {
			return err
		}
	}
	if a.ordering != nil {
		return a.putSeveral(ctx, s, a.installs(p), "")
	}
	file, err := a.resultsFile(o.results)
	if err != nil {
		return err
	}
	w := a.streams.Watch(a.world.Now)
	results := batch.Carry(ctx, s.Desk, p, batch.AtOnce(o.atOnce), func(r batch.Result) {
		says := "installed and checked"
		if r.There != nil {
			says = "there already"
		}
		w.Ended(rowName(r.Row), says, r.Err)
	}, func(r batch.Row, e job.Event) { w.Stage(rowName(r), e) })
	w.Close()
	if file != nil {
		err = screen.WriteResults(file, results, o.showPassword)
		if closing := file.Close(); err == nil {
			err = closing
		}
	}
	return a.unwritten(err, a.tabled(results, o.showPassword))
}

// installs are the orders for the rows of a table that are not there yet.
func (a *app) installs(p *batch.Plan) (out []queueRequest) {
	c := a.ordering.command
	for _, row := range p.Rows {
		if row.Plan == nil {
			continue
		}
		r := row.Request
		options := map[string][]string{"at": {r.At}, "answer": answered(r.Answers), "answers": nil}
		if r.Release != "" {
			options["release"] = []string{r.Release}
		}
		out = append(out, queueRequest{what: c.Name(), at: row.Plan.Address(), account: row.Plan.Account,
			words: words(c, []string{r.App}, options)})
	}
	return out
}

// answered are answers as they are typed.
func answered(given answer.Given) (out []string) {
	for _, id := range slices.Sorted(maps.Keys(given)) {
		value := given[id]
		if strings.HasPrefix(value, "@") { // which would name a file
			value = "@" + value
		}
		out = append(out, id+"="+value)
	}
	return out
}

// rowName is how a row of a table is called.
func rowName(r batch.Row) string { return fmt.Sprintf("line %d %s", r.Line, r.At) }

// tabled says how the rows ended; the worst of them gives the exit code.
func (a *app) tabled(results []batch.Result, passwords bool) error {
	code, documents := 0, []any{}
	for _, r := range results {
		document := map[string]any{"line": r.Line, "at": r.At}
		switch {
		case r.Err != nil:
			code = max(code, screen.Code(r.Err))
			document["outcome"], document["error"] = screen.Outcome(r.Err), a.streams.Failed(r.Err)
		case r.There != nil:
			document["outcome"], document["site"] = "there", r.There
		default:
			document["outcome"], document["installed"] = "installed", installedJSON(r.Done, passwords)
		}
		documents = append(documents, document)
	}
	if a.json {
		if err := a.streams.WriteJSON(map[string]any{"rows": documents}); err != nil {
			return err
		}
	} else {
		a.streams.ManyEnded(results)
	}
	if code != 0 {
		return &silent{code}
	}
	return nil
}

// tableJSON is the plan of a table.
func tableJSON(p *batch.Plan) any {
	rows := []any{}
	for _, r := range p.Rows {
		row := map[string]any{"line": r.Line, "at": r.At, "outcome": "there"}
		if r.Plan != nil {
			row["outcome"], row["plan"] = "to install", r.Plan
		}
		rows = append(rows, row)
	}
	return map[string]any{"rows": rows, "install": p.Install, "files": p.Files, "bytes": p.Bytes,
		"databases": p.Databases, "warnings": list(p.Warnings)}
}

func (a *app) readTable(name string) ([]byte, error) {
	var from io.Reader = a.streams.In
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return nil, fault.New(fault.Usage, "the table cannot be read", name, "Check its name.").Wrap(err)
		}
		defer file.Close()
		from = file
	}
	return io.ReadAll(io.LimitReader(from, table.Longest+1))
}

// resultsFile makes the file of the results before anything is installed: passwords that
// can be written nowhere would be too late to tell of.
func (a *app) resultsFile(name string) (*os.File, error) {
	if name == "" {
		return nil, nil
	}
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, fault.New(fault.Usage, "the results cannot be written", name,
			"Name a file that is not there yet. Nothing was touched.").Wrap(err)
	}
	return file, nil
}
