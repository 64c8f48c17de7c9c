package command

import (
	"context"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/answer/table"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/work/batch"
)

// selection is how a command is told which sites it means, and how they are gone through.
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

// allOf lets a command mean all sites, or all of an account.
func allOf(c *cobra.Command, all *bool) {
	c.Flags().BoolVar(all, "all", false, "all sites; with --account all of that account")
}

// rows are the sites that are meant: those named, all, or those of a table.
func (a *app) rows(ctx context.Context, s *core.Core, words []string, o *selection) ([]*batch.Row, error) {
	chosen := batch.Selection{Words: words, All: o.all, Account: a.account, Columns: o.columns, Free: o.free, Name: o.site}
	if o.table != "" {
		t, err := a.readTable(o.table)
		if err != nil {
			return nil, err
		}
		chosen.Table = &t
	}
	return chosen.Rows(ctx, s.Book)
}

// asked is the batch of the sites that are meant, each with its request.
func (a *app) asked(ctx context.Context, s *core.Core, words []string, o *selection,
	request func(r *batch.Row) batch.Request) (*batch.Batch, error) {
	rows, err := a.rows(ctx, s, words, o)
	for _, r := range rows {
		r.Request = request(r)
	}
	return &batch.Batch{Rows: rows}, err
}

func (a *app) readTable(name string) (table.Table, error) {
	var from io.Reader = a.streams.In
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return table.Table{}, fault.New(fault.Usage, "the table cannot be read", name, "Check its name.").Wrap(err)
		}
		defer file.Close()
		from = file
	}
	text, err := io.ReadAll(io.LimitReader(from, table.Longest+1))
	if err != nil {
		return table.Table{}, err
	}
	return table.Read(text)
}

// resultsFile makes the file of the results before anything is done: passwords that
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
