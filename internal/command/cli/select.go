package cli

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

// Selection is how a command is told which sites it means, and how they are gone through.
type Selection struct {
	All     bool
	Table   string
	Results string
	AtOnce  int
	Columns []string // what a table may say of each site, beside its name
	Free    bool     // any other column is an answer
	Site    string   // the column that names the sites; "" for the usual ones
	Strict  bool     // what is wrong with one site keeps all of them, as in a table
}

// Chooses lets a command mean several sites: all of them, or those of a table.
func Chooses(c *cobra.Command, o *Selection, columns ...string) {
	o.Columns = columns
	AllOf(c, &o.All)
	what := ""
	if len(columns) > 0 {
		what = " and " + strings.Join(columns, ", ")
	}
	f := c.Flags()
	f.StringVar(&o.Table, "table", "", "the sites of a table (CSV) with the columns site"+what+"; - for standard input")
	f.StringVar(&o.Results, "results", "", "write what came of each of several sites to this file, as CSV")
	f.IntVar(&o.AtOnce, "parallel", batch.Usual.Account, "how many sites of an account are worked on side by side")
}

// AllOf lets a command mean all sites, or all of an account.
func AllOf(c *cobra.Command, all *bool) {
	c.Flags().BoolVar(all, "all", false, "all sites; with --account all of that account")
}

// Rows are the sites that are meant: those named, all, or those of a table.
func (a *App) Rows(ctx context.Context, s *core.Core, words []string, o *Selection) ([]*batch.Row, error) {
	chosen := batch.Selection{Words: words, All: o.All, Account: a.Account, Columns: o.Columns, Free: o.Free, Name: o.Site}
	if o.Table != "" {
		t, err := a.ReadTable(o.Table)
		if err != nil {
			return nil, err
		}
		chosen.Table = &t
	}
	return chosen.Rows(ctx, s.Book)
}

// Asked is the batch of the sites that are meant, each with its request.
func (a *App) Asked(ctx context.Context, s *core.Core, words []string, o *Selection,
	request func(r *batch.Row) batch.Request) (*batch.Batch, error) {
	rows, err := a.Rows(ctx, s, words, o)
	for _, r := range rows {
		r.Request = request(r)
	}
	return &batch.Batch{Rows: rows}, err
}

func (a *App) ReadTable(name string) (table.Table, error) {
	var from io.Reader = a.Streams.In
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

// ResultsFile makes the file of the results before anything is done: passwords that
// can be written nowhere would be too late to tell of.
func (a *App) ResultsFile(name string) (*os.File, error) {
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
