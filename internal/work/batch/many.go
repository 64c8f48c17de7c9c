// Package batch installs a table of sites: all rows are planned before anything is touched,
// then they are installed side by side; a row that fails is undone, and the others go on.
package batch

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"tivset/internal/answer"
	"tivset/internal/answer/table"
	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/suggest"
	"tivset/internal/work"
	"tivset/internal/work/install"
)

// lookedAtOnce is how many rows are planned side by side.
const lookedAtOnce = 4

// Request is a table of installs. What it has no column for comes from All, whose texts may
// have places for columns.
type Request struct {
	Table table.Table
	All   plan.Request
}

// Row is one site of a table.
type Row struct {
	table.Row
	At    string
	Plan  *plan.Plan   // nil where the site is there already
	There *ledger.Site // what is there already: nothing is done

	Request plan.Request // the row as one install
}

// Plan is what the table comes to.
type Plan struct {
	Rows      []Row
	Install   int // how many of them are installed
	Files     int
	Bytes     int64
	Databases int
	Warnings  []string // each once, though it may be of several rows
}

// own are the columns that are no answers.
var own = []string{"app", "at", "release"}

// Look plans every row. All that is wrong, in whichever row, comes back at once.
func Look(ctx context.Context, d *work.Service, r Request) (*Plan, error) {
	if err := r.columns(ctx, d); err != nil {
		return nil, err
	}
	p, used := &Plan{Rows: make([]Row, len(r.Table.Rows))}, r.used()
	found := make([][]wrong, len(p.Rows))
	var group errgroup.Group
	group.SetLimit(lookedAtOnce)
	for i, row := range r.Table.Rows {
		group.Go(func() error {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			one, err := look(ctx, d, r.request(row, used), row)
			p.Rows[i] = one
			found[i] = inRow(row, err)
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	problems := together(append(slices.Concat(found...), p.meeting()...))
	if err := fault.Join("the table cannot be installed as it is", "Nothing was touched.", problems); err != nil {
		return nil, err
	}
	p.sum()
	return p, Room(ctx, d, p.space())
}

// request is a row as one install. Used are the columns that are no answers of their own.
func (r Request) request(row table.Row, used []string) plan.Request {
	one := r.All
	one.Answers = answer.Given{}
	for id, value := range r.All.Answers {
		one.Answers[id] = row.Fill(value)
	}
	one.App, one.At, one.Release = row.Fill(r.All.App), row.Fill(r.All.At), row.Fill(r.All.Release)
	for name, value := range row.Values {
		switch {
		case value == "":
		case name == "app":
			one.App = value
		case name == "at":
			one.At = row.Fill(value)
		case name == "release":
			one.Release = value
		case !slices.Contains(used, name):
			one.Answers[name] = value
		}
	}
	return one
}

// used are the columns that are only there to be put into texts.
func (r Request) used() (out []string) {
	texts := []string{r.All.App, r.All.At, r.All.Release}
	for _, value := range r.All.Answers {
		texts = append(texts, value)
	}
	for _, row := range r.Table.Rows {
		texts = append(texts, row.Values["at"])
	}
	for _, text := range texts {
		for _, name := range r.Table.Used(text) {
			if _, given := r.All.Answers[name]; !given && !slices.Contains(own, name) && !slices.Contains(common, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

// common are answers of every app: such a column is an answer, whatever uses it besides.
var common = []string{"title", "tagline", "language", "admin.name", "admin.email"}

// columns sees that the table says what has to be said, before every row says the same.
func (r Request) columns(ctx context.Context, d *work.Service) error {
	for _, name := range []string{"app", "at"} {
		given := map[string]string{"app": r.All.App, "at": r.All.At}[name]
		if given == "" && !slices.Contains(r.Table.Columns, name) {
			return fault.New(fault.Usage, "the table has no column "+name, strings.Join(r.Table.Columns, ", "),
				strings.TrimSpace(suggest.Hint(name, r.Table.Columns)+" Add it, or give it for all rows with the command."))
		}
	}
	return ctx.Err()
}

// look plans one row.
func look(ctx context.Context, d *work.Service, request plan.Request, row table.Row) (Row, error) {
	out := Row{Row: row, At: request.At, Request: request}
	if request.App == "" || request.At == "" {
		name := map[bool]string{true: "app", false: "at"}[request.App == ""]
		return out, fault.Join("", "", []fault.Problem{{ID: name, What: fault.Needed, Remedy: "Fill it in."}})
	}
	if known, err := d.Book.Knows(ctx, request.At); err == nil && known {
		there, err := d.Book.Find(ctx, request.At)
		if err != nil {
			return out, err
		}
		if there.App == request.App {
			out.There, out.At = &there, there.Address
			return out, nil
		}
	}
	p, err := d.Planner.Plan(ctx, request)
	if err != nil {
		return out, err
	}
	out.Plan, out.At = p, p.Place.URL
	return out, nil
}

// wrong is something wrong with a row; its ID is the column, or "".
type wrong struct {
	line int
	fault.Problem
}

// inRow names the row in what is wrong with it.
func inRow(row table.Row, err error) []wrong {
	if err == nil {
		return nil
	}
	f := fault.Of(err)
	if len(f.Problems) == 0 {
		return []wrong{{row.Line, fault.Problem{What: f.Error(), Remedy: f.Remedy}}}
	}
	var out []wrong
	for _, p := range f.Problems {
		out = append(out, wrong{row.Line, p})
	}
	return out
}

// together says the same of several rows once, in the order of their lines.
func together(all []wrong) (out []fault.Problem) {
	slices.SortStableFunc(all, func(a, b wrong) int { return cmp.Compare(a.line, b.line) })
	lines, order := map[fault.Problem][]string{}, []fault.Problem{}
	for _, w := range all {
		if lines[w.Problem] == nil {
			order = append(order, w.Problem)
		}
		lines[w.Problem] = append(lines[w.Problem], fmt.Sprint(w.line))
	}
	for _, p := range order {
		p.ID = strings.TrimSuffix(Named("line", lines[p])+", "+p.ID, ", ")
		out = append(out, p)
	}
	return out
}

// Named names several of which the same is said, such as lines.
func Named(what string, all []string) string {
	if len(all) > 1 {
		what += "s"
	}
	if more := len(all) - mostLines; more > 0 {
		all = append(all[:mostLines:mostLines], fmt.Sprintf("and %d more", more))
	}
	return what + " " + strings.Join(all, ", ")
}

// mostLines is how many lines are named of which the same is said.
const mostLines = 8

// meeting finds rows whose places are the same, or one in the other.
func (p *Plan) meeting() (out []wrong) {
	rows := slices.DeleteFunc(slices.Clone(p.Rows), func(r Row) bool { return r.Plan == nil })
	slices.SortStableFunc(rows, func(a, b Row) int { // what is around others comes first
		return cmp.Or(cmp.Compare(len(a.Plan.Place.Folder), len(b.Plan.Place.Folder)), cmp.Compare(a.Line, b.Line))
	})
	taken := map[string]int{} // the line of each folder
	for _, row := range rows {
		place := wrong{row.Line, fault.Problem{ID: "at"}}
		for folder := row.Plan.Place.Folder; folder != "."; folder = path.Dir(folder) {
			line, is := taken[row.Plan.Account+":"+folder]
			if !is {
				continue
			}
			place.What, place.Remedy = fmt.Sprintf("it is the place of line %d", line), "Give each site a place of its own."
			if folder != row.Plan.Place.Folder {
				place.What = fmt.Sprintf("it would lie in the site of line %d", line)
				place.Remedy = "Give it a directory of its own, or install one after the other."
			}
			out = append(out, place)
			break
		}
		if at := row.Plan.Account + ":" + row.Plan.Place.Folder; taken[at] == 0 {
			taken[at] = row.Line
		}
	}
	return out
}

func (p *Plan) sum() {
	for _, row := range p.Rows {
		if row.Plan == nil {
			continue
		}
		p.Install++
		p.Files += row.Plan.Changes.Files
		p.Bytes += row.Plan.Changes.Bytes
		p.Databases += len(row.Plan.Changes.Databases)
		for _, w := range row.Plan.Warnings {
			if !slices.Contains(p.Warnings, w) {
				p.Warnings = append(p.Warnings, w)
			}
		}
	}
}

// space is what all of them together need, by account.
func (p *Plan) space() map[string]int64 {
	need := map[string]int64{}
	for _, row := range p.Rows {
		if row.Plan != nil {
			need[row.Plan.Account] += row.Plan.Changes.Bytes
		}
	}
	return need
}

// Room sees that accounts have room for so many bytes.
func Room(ctx context.Context, d *work.Service, need map[string]int64) error {
	for _, name := range slices.Sorted(maps.Keys(need)) {
		a, err := d.Book.Home.Account(name)
		if err != nil {
			return err
		}
		in, err := d.Hosting.Open(ctx, a)
		if err != nil {
			return err
		}
		free, told := in.Free(ctx)
		if err := in.Close(); err != nil {
			return err
		}
		if told && free < need[name] {
			return fault.New(fault.Usage, fmt.Sprintf("all of them together need %d MB, and the account has %d MB left",
				need[name]>>20, free>>20), name, "Make room, or do fewer. Nothing was touched.")
		}
	}
	return nil
}

// Result is what came of a row.
type Result struct {
	Row
	Done *work.Done // nil where it was there already, or was not installed
	Err  error
}

// errNotBegun is that of rows to which it did not come any more.
func errNotBegun() error {
	return fault.New(fault.NeedsConfirmation, "not begun", "", "Run the same again: what is missing is installed then.")
}

// Carry installs the rows side by side, within limits, and gives what came of each in their
// order. Shows is called with each that has ended, and stage with what a row is at; both
// may be nil, and are called one at a time.
func Carry(ctx context.Context, d *work.Service, p *Plan, limits Limits, shows func(Result),
	stage func(Row, job.Event)) []Result {
	out := make([]Result, len(p.Rows))
	var tasks []Task
	var rows []int // those of the tasks
	for i, row := range p.Rows {
		out[i] = Result{Row: row}
		if row.Plan == nil {
			if shows != nil {
				shows(out[i])
			}
			continue
		}
		rows = append(rows, i)
		tasks = append(tasks, Task{Account: row.Plan.In, Server: server(row.Plan), Do: func(ctx context.Context,
			d *work.Service) (err error) {
			out[i].Done, err = install.Install(ctx, d, row.Plan)
			return err
		}})
	}
	watch := Watch{Ended: func(n int, err error) {
		out[rows[n]].Err = err
		if shows != nil {
			shows(out[rows[n]])
		}
	}}
	if stage != nil {
		watch.Stage = func(n int, e job.Event) { stage(p.Rows[rows[n]], e) }
	}
	Side(ctx, d, limits, tasks, watch)
	return out
}

// server is the database server of an install, as its account names it; "" for none.
func server(p *plan.Plan) string {
	if p.Data == nil {
		return ""
	}
	return p.Data.Server
}
