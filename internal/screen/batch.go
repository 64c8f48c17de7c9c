package screen

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"tivset/internal/answer/table"
	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/step"
	"tivset/internal/work"
	"tivset/internal/work/batch"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/requests"
	"tivset/internal/work/restore"
	"tivset/internal/work/update"
)

// ReviewOf words the plan of one request; "" for one that needs no review.
func (s *Streams) ReviewOf(p *batch.Plan) string {
	switch of := p.Shown.(type) {
	case *plan.Plan:
		return s.Review(of)
	case *update.Plan:
		return s.ReviewUpdate(of)
	case *place.Plan:
		return s.ReviewCopy(of)
	case *remove.Plan:
		return s.ReviewRemove(of)
	case *restore.Plan:
		return reviewRestore(of)
	}
	return ""
}

// TitleOf is the title of the site that a plan is about; "" where it is of one that is to be.
func TitleOf(p *batch.Plan) string {
	switch of := p.Shown.(type) {
	case *update.Plan:
		return of.Site.Title
	case *remove.Plan:
		return of.Site.Title
	case *restore.Plan:
		if of.Site != nil {
			return of.Site.Title
		}
	}
	return ""
}

// reviewRestore says which backup it is, of when and what, and what it takes the place of.
func reviewRestore(p *restore.Plan) string {
	text := fmt.Sprintf("  The backup is %s,\n  made %s%s, of %s release %s at %s.\n", p.From,
		p.MadeAt.Format("2006-01-02 15:04:05"), WhyMade(step.NamedBackup{Why: p.Why, To: p.To}), p.Of.App, p.Of.Release,
		p.Of.Address)
	if p.Site == nil {
		return text
	}
	if len(p.Files) > 0 {
		text += "  Of it come back: " + strings.Join(short(p.Files), ", ") + "."
		if p.Keeps {
			text += " The whole site is backed up first."
		}
		return text
	}
	text += fmt.Sprintf("  It takes the place of “%s” (%s, release %s).", p.Site.Title, p.Site.URL, p.Site.Release)
	if p.Keeps {
		text += " What is there now is backed up first."
	}
	return text + " Visitors see a notice meanwhile, for " + work.About(time.Duration(p.Closed)*time.Second) + "."
}

// mostRows is how many rows a review lists.
const mostRows = 12

// ReviewAll words the plans of several: each of them; of installs what comes of it as a whole, and the first.
func (s *Streams) ReviewAll(b *batch.Batch) string {
	if len(b.Rows) > 0 && b.Rows[0].Request.Kind() == "install" {
		return s.reviewInstalls(b)
	}
	var all []string
	for _, r := range b.Rows {
		if r.Err != nil {
			all = append(all, s.cannotNow(r))
		} else if review := s.ReviewOf(r.Plan); r.ToDo() && review != "" {
			all = append(all, review)
		}
	}
	return strings.Join(all, "\n")
}

// cannotNow words one that cannot be looked at now.
func (s *Streams) cannotNow(r *batch.Row) string {
	f := fault.Of(r.Err)
	return s.paint(bad, "Not done:") + " " + Clean(r.Name()) + ": " + Clean(Spelled(because(f.What, f.Cause))) + "\n"
}

func (s *Streams) reviewInstalls(b *batch.Batch) string {
	sum, there := requests.Sum(b), 0
	var rows, not strings.Builder
	for n, r := range b.Rows {
		text := s.paint(faint, "there already")
		switch {
		case r.Err != nil:
			not.WriteString(s.cannotNow(r))
			continue
		case r.ToDo():
			p := r.Plan.Shown.(*plan.Plan)
			text = Clean(p.Title + " " + p.Release + ", “" + p.Face.Title + "”")
		default:
			there++
		}
		if n < mostRows {
			fmt.Fprintf(&rows, "  %s  %s  %s\n", s.paint(faint, fmt.Sprintf("line %-4d", r.Line)), Clean(r.At()), text)
		}
	}
	if more := len(b.Rows) - mostRows; more > 0 {
		fmt.Fprintf(&rows, "  … and %d more\n", more)
	}
	var out strings.Builder
	fmt.Fprintf(&out, "  %s of %s", s.paint(strong, Counted(sum.Install, "site")+" to install"), Counted(len(b.Rows),
		"row"))
	if there > 0 {
		fmt.Fprintf(&out, "; %d there already", there)
	}
	fmt.Fprintf(&out, "\n\n%s%s\n  + %s, %s   + %s\n", rows.String(), not.String(), Counted(sum.Files, "file"),
		humanize.Bytes(uint64(sum.Bytes)), Counted(sum.Databases, "database"))
	out.WriteString(s.noted(sum.Warnings))
	return out.String()
}

// AllEnded says how many of several were done and how many were not.
func (s *Streams) AllEnded(b *batch.Batch) {
	installed, there, failed, wrong, installs := 0, 0, 0, 0, false
	for _, r := range b.Rows {
		installs = r.Request.Kind() == "install"
		switch _, was := r.Ended.(*requests.There); {
		case r.Err != nil:
			failed++
		case was:
			there++
		case !r.Ended.OK():
			wrong++
		default:
			installed++
		}
	}
	text, not := fmt.Sprintf("%d done", installed), "not"
	if installs {
		text, not = Counted(installed, "site")+" installed and checked", "not installed"
	}
	if there > 0 {
		text += fmt.Sprintf(", %d there already", there)
	}
	style := good
	if failed > 0 {
		style = bad
		text += fmt.Sprintf(", %d %s: run the same again when that is fixed", failed, not)
	}
	if wrong > 0 {
		style = bad
		text += fmt.Sprintf(", %s still wrong: see what with tivset check SITE", Counted(wrong, "site"))
	}
	s.Print("\n%s %s", s.paint(style, text+"."), s.proven(nil))
}

// Says words what came of one of several, on a line.
func Says(e batch.Ended) string {
	switch e := e.(type) {
	case *requests.Installed:
		return "installed and checked"
	case *requests.There:
		return "there already"
	case *requests.Current:
		return e.Site.Title + " has the newest release, " + e.Site.Release
	case *requests.AsItWas:
		return "nothing is to be repaired" + stillWrong(e.Still)
	case *requests.Updated:
		return "has release " + e.Site.Release + " and is checked; it had " + e.From
	case *requests.BackedUp:
		return "backed up, " + e.File
	case *requests.Restored:
		return "is back and checked, release " + e.Site.Release
	case *requests.Placed:
		if e.Moved {
			return "moved from " + e.From + ", checked"
		}
		return "a copy of " + e.From + ", checked"
	case *requests.Removed:
		return "removed"
	case *requests.Adopted:
		return e.Site.App + " " + e.Site.Release + " is recorded"
	case *requests.Repaired:
		return "the release's own files are back" + stillWrong(e.Still)
	}
	return ""
}

// stillWrong names the checks that fail after a repair.
func stillWrong(wrong []check.Checked) string {
	if len(wrong) == 0 {
		return ""
	}
	var names []string
	for _, c := range wrong {
		names = append(names, c.Name)
	}
	return "; still wrong: " + strings.Join(names, ", ")
}

// Came says what came of a request for one site. How an install ended Installed says.
func (s *Streams) Came(e batch.Ended) {
	switch e := e.(type) {
	case *requests.Current:
		s.Print("%s has the newest release, %s.", e.Site.Title, e.Site.Release)
	case *requests.AsItWas:
		s.Say("Nothing of %s is to be repaired: the site's files are as the release has them, and nobody else can write "+
			"them. What was added stays, for you to judge.", e.Site.Address)
		s.still(e.Still)
	case *requests.Updated:
		if e.Rehearsal != nil {
			s.Rehearsed(e.Rehearsal)
		}
		s.Settled(e.Site.Title+" has release "+e.Site.Release+" and is checked; it had "+e.From+".", &e.Done.Done,
			Before(e.Backup)...)
	case *requests.BackedUp:
		s.BackedUp(e.BackedUp)
	case *requests.Restored:
		if len(e.Files) > 0 {
			s.Settled(fmt.Sprintf("%d files of %s are back, and it is checked.", len(e.Files), e.Site.Title), &e.Done.Done,
				append([]Pair{{"Files", strings.Join(short(e.Files), "\n")}}, Before(e.Backup)...)...)
			return
		}
		s.Settled(e.Site.Title+" is back and checked, release "+e.Site.Release+".", &e.Done.Done, Before(e.Backup)...)
	case *requests.Placed:
		what := "A copy of " + e.From + " is there and checked."
		if e.Moved {
			what = e.Title + " has moved and is checked."
		}
		s.Settled(what, e.Done)
	case *requests.Removed:
		s.Removed(e.Done)
	case *requests.Adopted:
		s.Print("%s %s at %s is recorded; see it with: tivset show %s\n", e.Site.App, e.Site.Release, e.Site.URL,
			e.Site.Address)
		s.Checks(e.Examined)
	case *requests.Repaired:
		s.Repaired(e.Done)
		s.still(e.Still)
	}
}

// still says what is wrong with a site after it was repaired.
func (s *Streams) still(wrong []check.Checked) {
	if len(wrong) == 0 {
		return
	}
	s.Print("\n%s", s.paint(bad, "Still wrong:"))
	for _, c := range wrong {
		s.Print("  %s %s", s.paint(bad, "✗"), strings.ReplaceAll(s.fold(c.Name+": "+Spelled(c.Detail), 4), "\n", "\n    "))
	}
}

// WriteResults writes what came of each row as a table (RFC 4180): of installs where and with which name to sign
// in, with passwords where they were asked for. What a spreadsheet would take for a formula is text.
func WriteResults(to io.Writer, b *batch.Batch, passwords bool) error {
	w := csv.NewWriter(to)
	installs := len(b.Rows) > 0 && b.Rows[0].Request.Kind() == "install"
	head := table.Results
	if installs {
		head = table.InstallResults
	}
	if passwords && installs {
		head = append(slices.Clone(head), table.Password)
	}
	_ = w.Write(head)
	for _, r := range b.Rows {
		row := map[string]string{"address": r.At()}
		if r.Line > 0 {
			row["line"] = fmt.Sprint(r.Line)
		}
		if r.Err != nil {
			f := fault.Of(r.Err)
			row["outcome"], row["problem"] = Outcome(r.Err), Spelled(because(f.What, f.Cause))
		} else {
			row["outcome"], row["what came of it"] = r.Ended.Outcome(), Says(r.Ended)
		}
		switch e := r.Ended.(type) {
		case *requests.There:
			row["admin area"], row["name"] = e.Site.AdminURL, e.Site.Admin.Name
		case *requests.Installed:
			row["address"], row["admin area"], row["name"] = e.Site.URL, e.Site.AdminURL, e.Site.Admin.Name
			row[table.Password] = e.Password.Reveal()
		}
		var cells []string
		for _, column := range head {
			if column == table.Password { // which is what it is
				cells = append(cells, row[column])
				continue
			}
			cells = append(cells, cell(row[column]))
		}
		_ = w.Write(cells)
	}
	w.Flush()
	return w.Error()
}
