package batch

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"tivset/internal/answer/table"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
	"tivset/internal/suggest"
)

// Selection is which sites are meant: those that are named, all, or those of a table.
type Selection struct {
	Words   []string
	All     bool
	Account string       // with All: only its sites
	Table   *table.Table // nil where there is none

	Columns []string // what a table may say of each site, beside its name
	Free    bool     // any other column is an answer
	Name    string   // the column that names the sites; "" for the usual ones
}

// SiteColumns are what the column of the sites may be called: the table of results of an
// install names them by their addresses.
var SiteColumns = []string{"site", "address"}

// ofResults are columns of such a table that say nothing here.
var ofResults = slices.Concat(table.InstallResults, table.Results, []string{table.Password})

// Rows are the sites that are meant, without requests yet.
func (o Selection) Rows(ctx context.Context, book *site.Book) ([]*Row, error) {
	switch {
	case o.Table != nil && (o.All || len(o.Words) > 0 && !o.Free):
		return nil, fault.New(fault.Usage, "--table names the sites", "--table", "Leave --all and the names out.")
	case o.Table != nil:
		return o.read(*o.Table)
	case o.All && len(o.Words) > 0:
		return nil, fault.New(fault.Usage, "--all does not go with the name of a site", o.Words[0],
			"Leave one of the two out.")
	case !o.All && len(o.Words) == 0:
		return nil, fault.New(fault.Usage, "which site?", "", "Name it, or several; or say --all.")
	}
	var out []*Row
	for _, word := range o.Words {
		out = append(out, &Row{Site: word})
	}
	if !o.All {
		return out, nil
	}
	found, err := Sites(ctx, book, nil, o.Account)
	for _, x := range found {
		out = append(out, &Row{Site: x.Address})
	}
	if err == nil && len(out) == 0 {
		err = fault.New(fault.Usage, "there is no site yet", o.Account, "See what can be installed with: "+
			fault.Call("browse"))
	}
	return out, err
}

// read gives the rows of a table.
func (o Selection) read(t table.Table) (out []*Row, err error) {
	column, names := "", SiteColumns
	if o.Name != "" {
		names = []string{o.Name}
	}
	for _, name := range names {
		if slices.Contains(t.Columns, name) && column == "" {
			column = name
		}
	}
	if column == "" && len(o.Words) == 0 {
		return nil, fault.New(fault.Usage, "the table has no column "+names[0], strings.Join(t.Columns, ", "),
			strings.TrimSpace(suggest.Hint(names[0], t.Columns)+" It says which site each row is about."))
	}
	problems := o.unknown(t, column)
	for _, row := range t.Rows {
		r := &Row{Row: row, Site: row.Values[column]}
		if r.Site == "" && len(o.Words) > 0 {
			r.Site = o.Words[0]
		}
		if r.Site == "" {
			problems = append(problems, fault.Problem{ID: fmt.Sprintf("line %d, %s", row.Line, column), What: fault.Needed,
				Remedy: "Fill it in."})
		}
		out = append(out, r)
	}
	return out, fault.Join("the table cannot be used as it is", "Nothing was touched.", problems)
}

// unknown are columns of which nobody knows anything.
func (o Selection) unknown(t table.Table, column string) (problems []fault.Problem) {
	for _, name := range t.Columns {
		if o.Free || name == column || slices.Contains(o.Columns, name) || slices.Contains(ofResults, name) {
			continue
		}
		problems = append(problems, fault.Problem{ID: name, What: "there is no such column", Remedy: strings.TrimSpace(
			suggest.Hint(name, o.Columns) + " Known are: " + strings.Join(append([]string{"site"}, o.Columns...), ", ") + ".")})
	}
	return problems
}

// Sites are those on record that are named; without any name all, or all of an account.
func Sites(ctx context.Context, book *site.Book, words []string, account string) ([]ledger.Site, error) {
	if len(words) == 0 {
		all, err := book.All(ctx)
		return slices.DeleteFunc(all, func(x ledger.Site) bool { return account != "" && x.Account != account }), err
	}
	var out []ledger.Site
	for _, w := range words {
		found, err := book.Find(ctx, w)
		if err != nil {
			return nil, err
		}
		out = append(out, found)
	}
	return out, nil
}
