package cli

import (
	"context"
	"io"
	"os"
	"regexp"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/answer/table"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
	"tivset/internal/sites"
	"tivset/internal/work/batch"
)

// Selection is how a command is told which sites it means, and how they are gone through.
type Selection struct {
	All     bool
	Where   []string // only those for which this holds
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
	AllOf(c, o)
	what := ""
	if len(columns) > 0 {
		what = " and " + strings.Join(columns, ", ")
	}
	f := c.Flags()
	f.StringVar(&o.Table, "table", "", "the sites of a table (CSV) with the columns site"+what+"; - for standard input")
	f.StringVar(&o.Results, "results", "", "write what came of each of several sites to this file, as CSV")
	f.IntVar(&o.AtOnce, "parallel", batch.Usual.Account, "how many sites of an account are worked on side by side")
}

// AllOf lets a command mean all sites, all of an account, or those for which something holds.
func AllOf(c *cobra.Command, o *Selection) {
	c.Flags().BoolVar(&o.All, "all", false, "all sites; with --account all of that account")
	Where(c, &o.Where)
}

// Where lets a command mean the sites for which something holds.
func Where(c *cobra.Command, where *[]string) {
	c.Flags().StringArrayVar(where, "where", nil, "the sites for which this holds, such as app=inkreach, health!=good, "+
		"\"release<2\" or customer=brook; or a selection that was saved, @NAME")
}

// Rows are the sites that are meant: those named, all, or those of a table.
func (a *App) Rows(ctx context.Context, s *core.Core, words []string, o *Selection) ([]*batch.Row, error) {
	words, err := a.Chosen(ctx, s, words, o)
	if err != nil {
		return nil, err
	}
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

// NamesOf are names of an account's files as they were typed: in whichever bytes, or with \xNN as a list shows them.
func NamesOf(typed []string) []string {
	var out []string
	for _, name := range typed {
		out = append(out, files.Escape(shownByte.ReplaceAllStringFunc(name, func(shown string) string {
			b, _ := strconv.ParseUint(shown[2:], 16, 8) // the form says that it is one
			return string([]byte{byte(b)})
		})))
	}
	return out
}

// shownByte is a byte of a name as lists show it: only those that are no text.
var shownByte = regexp.MustCompile(`\\x[89a-f][0-9a-f]`)

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

// Chosen are the sites that a filter means, by their addresses, in the place of those that are named; those where there
// is no filter.
func (a *App) Chosen(ctx context.Context, s *core.Core, words []string, o *Selection) ([]string, error) {
	if len(o.Where) == 0 {
		return words, nil
	}
	if len(words) > 0 || o.Table != "" {
		return nil, fault.New(fault.Usage, "--where says which sites", "--where", "Leave the names and --table out.")
	}
	found, err := a.Matching(ctx, s, o.Where)
	if err != nil {
		return nil, err
	}
	o.All = false
	var out []string
	for _, x := range found {
		out = append(out, x.Address)
	}
	return out, nil
}

// Matching are the sites that a filter means, of the account that was named or of all.
func (a *App) Matching(ctx context.Context, s *core.Core, where []string) ([]ledger.Site, error) {
	terms, err := a.terms(where)
	if err != nil {
		return nil, err
	}
	return sites.Where(ctx, s.Book, terms, a.Account)
}

// terms has selections that were saved say what they are.
func (a *App) terms(where []string) (out []string, err error) {
	for _, text := range where {
		name, saved := strings.CutPrefix(text, "@")
		if !saved {
			out = append(out, text)
			continue
		}
		all, err := a.World.Home().Selections()
		if err != nil {
			return nil, err
		}
		if all[name] == nil {
			return nil, fault.New(fault.Usage, "no selection is called "+name, "--where "+text, "Save one with: "+
				fault.Call("sites", "--where", "…", "--save-as", name))
		}
		out = append(out, all[name]...)
	}
	return out, nil
}
