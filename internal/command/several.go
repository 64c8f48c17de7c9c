package command

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/answer/table"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/records/job"
	"tivset/internal/screen"
	"tivset/internal/suggest"
	"tivset/internal/work"
	"tivset/internal/work/batch"
)

// selection is how a command is told which sites it means.
type selection struct {
	all     bool
	table   string
	results string
	atOnce  int
	columns []string // what a table may say of each site, beside its name
	free    bool     // any other column is an answer
	site    string   // the column that names the sites; "" for the usual ones
	strict  bool     // what is wrong with one site keeps all of them, as in a table
}

// chooses lets a command mean several sites: all of them, or those of a table.
func chooses(c *cobra.Command, o *selection, columns ...string) {
	o.columns = columns
	allOf(c, &o.all)
	what := ""
	if len(columns) > 0 {
		what = " and " + strings.Join(columns, ", ")
	}
	f := c.Flags()
	f.StringVar(&o.table, "table", "", "the sites of a table (CSV) with the columns site"+what+"; - for standard input")
	f.StringVar(&o.results, "results", "", "write what came of each of several sites to this file, as CSV")
	f.IntVar(&o.atOnce, "at-once", batch.Usual.Account, "how many sites of an account are worked on side by side")
}

// siteRow is one site that a command means.
type siteRow struct {
	table.Row
	Site string
	At   string // where it is, or will be; "" while that is not known
}

// sideBySide says whether a command works on its sites as on several.
func (a *app) sideBySide(rows []siteRow, o *selection) bool {
	return len(rows) > 1 || o.table != "" || a.ordering != nil
}

// name is how a row is called: the site, and the line of a table.
func (r siteRow) name() string {
	name := r.Site
	if r.At != "" {
		name = r.At
	}
	if r.Line == 0 {
		return name
	}
	return fmt.Sprintf("line %d %s", r.Line, name)
}

// rows are the sites that are meant: those named, all, or those of a table.
func (a *app) rows(ctx context.Context, s *core.Core, words []string, o *selection) ([]siteRow, error) {
	switch {
	case o.atOnce < 1:
		return nil, fault.New(fault.Usage, "at least one site has to be worked on at once", "--at-once",
			"Give a number from 1 on.")
	case o.table == "":
		words, err := a.meant(ctx, s, words, o.all)
		var out []siteRow
		for _, w := range words {
			out = append(out, siteRow{Site: w})
		}
		return out, err
	case o.all || len(words) > 0 && !o.free:
		return nil, fault.New(fault.Usage, "--table names the sites", "--table", "Leave --all and the names out.")
	}
	text, err := a.readTable(o.table)
	if err != nil {
		return nil, err
	}
	read, err := table.Read(text)
	if err != nil {
		return nil, err
	}
	return o.read(read, words)
}

// siteColumns are what the column of the sites may be called: the table of results of an
// install names them by their addresses.
var siteColumns = []string{"site", "address"}

// ofResults are columns of such a table that say nothing here.
var ofResults = []string{"line", "outcome", "admin side", "name", "problem", "password", "what came of it"}

// read gives the rows of a table.
func (o *selection) read(t table.Table, words []string) (out []siteRow, err error) {
	column, names := "", siteColumns
	if o.site != "" {
		names = []string{o.site}
	}
	for _, name := range names {
		if slices.Contains(t.Columns, name) && column == "" {
			column = name
		}
	}
	if column == "" && len(words) == 0 {
		return nil, fault.New(fault.Usage, "the table has no column "+names[0], strings.Join(t.Columns, ", "),
			strings.TrimSpace(suggest.Hint(names[0], t.Columns)+" It says which site each row is about."))
	}
	var problems []fault.Problem
	for _, name := range t.Columns {
		if o.free || name == column || slices.Contains(o.columns, name) || slices.Contains(ofResults, name) {
			continue
		}
		problems = append(problems, fault.Problem{ID: name, What: "there is no such column", Remedy: strings.TrimSpace(
			suggest.Hint(name, o.columns) + " Known are: " + strings.Join(append([]string{"site"}, o.columns...), ", ") + ".")})
	}
	for _, row := range t.Rows {
		r := siteRow{Row: row, Site: row.Values[column]}
		if r.Site == "" && len(words) > 0 {
			r.Site = words[0]
		}
		if r.Site == "" {
			problems = append(problems, fault.Problem{ID: fmt.Sprintf("line %d, %s", row.Line, column), What: fault.Needed,
				Remedy: "Fill it in."})
		}
		out = append(out, r)
	}
	return out, fault.Join("the table cannot be used as it is", "Nothing was touched.", problems)
}

// named are the sites of rows.
func named(rows []siteRow) (out []string) {
	for _, r := range rows {
		out = append(out, r.Site)
	}
	return out
}

// value is what a row says in a column, or what is said for all.
func (r siteRow) value(column, all string) string {
	if said := r.Values[column]; said != "" {
		return said
	}
	return all
}

// prepared is one site that was prepared at: what will be done with it.
type prepared struct {
	at       string // where it will be, when that is not where it is
	address  string // of that, where at is not it
	review   string
	document any // of the plan, for programs
	account  *account.Account
	server   string
	folder   string              // the place that is taken, where a new one is
	bytes    int64               // that come to be in the account
	nothing  *ended              // nothing is to be done, and this is said instead
	options  map[string][]string // of the command for this site alone, where they are not in the table's columns

	// do does what was looked at, and agreed to; close lets go of that, done or not. May be nil.
	do    func(ctx context.Context, d *work.Service) (ended, error)
	close func() error
}

// letGo lets go of what was looked at.
func (l *prepared) letGo() (err error) {
	if l.close != nil {
		err = l.close()
	}
	l.close = nil
	return err
}

// lookedAt begins the look at a site that is on record.
func (a *app) lookedAt(ctx context.Context, s *core.Core, word string) (prepared, error) {
	x, err := s.Book.Find(ctx, word)
	if err != nil {
		return prepared{}, err
	}
	l := prepared{at: x.Address}
	if x.Database != nil {
		l.server = x.Database.Server
	}
	l.account, err = s.Book.Home.Account(x.Account)
	return l, err
}

// ended is what came of one of several.
type ended struct {
	outcome  string // in a word
	says     string
	document any
}

// several looks at all sites that are meant, has all of it agreed to at once, and does it
// side by side. What is wrong with a row of a table is said of all rows, before anything is
// touched; a server that cannot be reached keeps only its own sites back.
func (a *app) several(ctx context.Context, s *core.Core, rows []siteRow, o *selection, question string,
	look func(ctx context.Context, r siteRow) (prepared, error)) error {
	found, failed, err := lookAll(ctx, rows, o.strict || o.table != "", look)
	defer func() {
		for i := range found {
			_ = found[i].letGo()
		}
	}()
	if err != nil {
		return err
	}
	if err := room(ctx, s.Desk, found, failed); err != nil {
		return err
	}
	if err := a.agreeToAll(ctx, rows, found, failed, question); err != nil {
		return err
	}
	if a.ordering != nil {
		return a.putSeveral(ctx, s, a.wishes(rows, found, failed), "")
	}
	file, err := a.resultsFile(o.results)
	if err != nil {
		return err
	}
	w := a.streams.Watch(a.world.Now)
	ends, tasks, of := make([]ended, len(rows)), []batch.Task{}, []int{}
	for i, l := range found {
		switch {
		case failed[i] != nil:
			w.Ended(rows[i].name(), "", failed[i])
		case l.nothing != nil:
			ends[i] = *l.nothing
			w.Ended(rows[i].name(), l.nothing.says, nil)
		default:
			of = append(of, i)
			tasks = append(tasks, batch.Task{Account: l.account, Server: l.server, Do: func(ctx context.Context,
				d *work.Service) (err error) {
				ends[i], err = l.do(ctx, d)
				return err
			}})
		}
	}
	batch.Side(ctx, s.Desk, batch.AtOnce(o.atOnce), tasks, batch.Watch{
		Stage: func(n int, e job.Event) { w.Stage(rows[of[n]].name(), e) },
		Ended: func(n int, err error) { // a task may have been begun more than once until then
			_ = found[of[n]].letGo()
			failed[of[n]] = err
			w.Ended(rows[of[n]].name(), ends[of[n]].says, err)
		}})
	w.Close()
	if file != nil {
		err = writeResults(file, rows, ends, failed)
	}
	return a.unwritten(err, a.severalEnded(ends, failed))
}

// unwritten says that the table of results could not be written, if so, beside how all of them ended: nobody
// may take a table that is not whole for all that came of it.
func (a *app) unwritten(why, ended error) error {
	if why == nil {
		return ended
	}
	a.streams.Note(screen.Spelled("the results could not be written: " + why.Error() + "; see what came of each with " +
		fault.Call("jobs") + ", and a password with " + fault.Call("reveal", "SITE")))
	if how := (*silent)(nil); ended == nil || errors.As(ended, &how) && how.code < int(fault.Incomplete) {
		return &silent{int(fault.Incomplete)}
	}
	return ended
}

// agreeToAll has everything agreed to that will be done; what needs no yes has no review.
func (a *app) agreeToAll(ctx context.Context, rows []siteRow, found []prepared, failed []error, question string) error {
	reviews, documents := []string{}, []any{}
	for i, l := range found {
		switch {
		case failed[i] != nil:
			documents = append(documents, a.streams.Failed(failed[i]))
			reviews = append(reviews, a.streams.CannotNow(rows[i].name(), failed[i]))
		case l.nothing != nil:
			documents = append(documents, l.nothing.document)
		case l.do != nil:
			documents = append(documents, l.document)
			if l.review != "" {
				reviews = append(reviews, l.review)
			}
		}
	}
	todo := 0
	for i, l := range found {
		if failed[i] == nil && l.do != nil && l.review != "" {
			todo++
		}
	}
	if todo == 0 && !a.dryRun {
		return nil
	}
	err := a.agree(ctx, strings.Join(reviews, "\n"), fmt.Sprintf(question, counted(todo)), documents)
	if code := worst(failed); errors.Is(err, errStop) && code != 0 {
		return &silent{code}
	}
	return err
}

// worst is the exit code of the worst of several; 0 where none failed.
func worst(failed []error) (code int) {
	for _, err := range failed {
		if err != nil {
			code = max(code, screen.Code(err))
		}
	}
	return code
}

// counted is how a question calls so many sites.
func counted(n int) string {
	if n == 1 {
		return "it"
	}
	return fmt.Sprintf("all %d", n)
}

func writeResults(file interface {
	Write([]byte) (int, error)
	Close() error
}, rows []siteRow, ends []ended, failed []error) error {
	out := make([]screen.RowResult, len(rows))
	for i, r := range rows {
		out[i] = screen.RowResult{Line: r.Line, Site: r.Site, Outcome: ends[i].outcome, Says: ends[i].says, Err: failed[i]}
		if r.At != "" {
			out[i].Site = r.At
		}
	}
	err := screen.WriteRows(file, out)
	if closing := file.Close(); err == nil {
		err = closing
	}
	return err
}

// severalEnded says how all of them ended; the worst gives the exit code.
func (a *app) severalEnded(ends []ended, failed []error) error {
	bad, documents := 0, []any{}
	for i := range ends {
		document := ends[i].document
		if failed[i] != nil {
			document = a.streams.Failed(failed[i])
			bad++
		}
		documents = append(documents, document)
	}
	if a.json {
		if err := a.streams.WriteJSON(documents); err != nil {
			return err
		}
	} else {
		a.streams.SeveralEnded(len(ends)-bad, bad)
	}
	if code := worst(failed); code != 0 {
		return &silent{code}
	}
	return nil
}
