package screen

import (
	"encoding/csv"
	"fmt"
	"io"
	"strings"

	"github.com/dustin/go-humanize"

	"tivset/internal/fault"
	"tivset/internal/work/batch"
)

// mostRows is how many rows a review lists.
const mostRows = 12

// ReviewMany words the plan of a table: what comes of it as a whole, and its first rows.
func (s *Streams) ReviewMany(p *batch.Plan) string {
	var out strings.Builder
	fmt.Fprintf(&out, "  %s of %s", s.paint(strong, Counted(p.Install, "site")+" to install"),
		Counted(len(p.Rows), "row"))
	if there := len(p.Rows) - p.Install; there > 0 {
		fmt.Fprintf(&out, "; %d there already", there)
	}
	out.WriteString("\n\n")
	for n, r := range p.Rows {
		if n == mostRows {
			fmt.Fprintf(&out, "  … and %d more\n", len(p.Rows)-mostRows)
			break
		}
		text := s.paint(faint, "there already")
		if r.Plan != nil {
			text = Clean(r.Plan.Title + " " + r.Plan.Release + ", “" + r.Plan.Face.Title + "”")
		}
		fmt.Fprintf(&out, "  %s  %s  %s\n", s.paint(faint, fmt.Sprintf("line %-4d", r.Line)), Clean(r.At), text)
	}
	fmt.Fprintf(&out, "\n  + %s, %s   + %s\n", Counted(p.Files, "file"), humanize.Bytes(uint64(p.Bytes)),
		Counted(p.Databases, "database"))
	out.WriteString(s.noted(p.Warnings))
	return out.String()
}

// ManyEnded says how many rows ended how.
func (s *Streams) ManyEnded(all []batch.Result) {
	installed, there, failed := 0, 0, 0
	for _, r := range all {
		switch {
		case r.Err != nil:
			failed++
		case r.There != nil:
			there++
		default:
			installed++
		}
	}
	text := Counted(installed, "site") + " installed and checked"
	if there > 0 {
		text += fmt.Sprintf(", %d there already", there)
	}
	style := good
	if failed > 0 {
		style = bad
		text += fmt.Sprintf(", %d not installed: run the same again when that is mended", failed)
	}
	s.Print("\n%s %s", s.paint(style, text+"."), s.proven(nil))
}

// WriteResults writes what came of each row as a table (RFC 4180), with passwords where
// they were asked for. What a spreadsheet would take for a formula is text.
func WriteResults(to io.Writer, all []batch.Result, passwords bool) error {
	w := csv.NewWriter(to)
	head := []string{"line", "address", "outcome", "admin side", "name", "problem"}
	if passwords {
		head = append(head, "password")
	}
	_ = w.Write(head)
	for _, r := range all {
		row := []string{fmt.Sprint(r.Line), r.At, "installed", "", "", ""}
		password := ""
		switch {
		case r.Err != nil:
			f := fault.Of(r.Err)
			row[2], row[5] = Outcome(r.Err), Spelled(because(f.What, f.Cause))
		case r.There != nil:
			row[2], row[3], row[4] = "there", r.There.AdminURL, r.There.Admin.Name
		default:
			row[1], row[3], row[4] = r.Done.Site.URL, r.Done.Site.AdminURL, r.Done.Site.Admin.Name
			password = r.Done.Password.Reveal()
		}
		if passwords {
			row = append(row, password)
		}
		for i := range row {
			if i < 6 { // a password is what it is
				row[i] = cell(row[i])
			}
		}
		_ = w.Write(row)
	}
	w.Flush()
	return w.Error()
}
