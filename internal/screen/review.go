package screen

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"

	"tivset/internal/answer"
	"tivset/internal/answer/care"
	"tivset/internal/answer/language"
	"tivset/internal/hosting/database"
	"tivset/internal/plan"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/wizard"
	"tivset/internal/work"
)

// Review words a plan: everything that is about to happen to the account.
func (s *Streams) Review(p *plan.Plan) string {
	var out strings.Builder
	fmt.Fprintf(&out, "  %s  →  %s\n\n", s.paint(strong, Clean(p.Title+" "+p.Release)),
		s.paint(accent, Clean(p.Place.URL)))
	all := []Pair{{"Where", where(p)}}
	if p.Data != nil {
		all = append(all, Pair{"Data", data(p.Data)})
	}
	all = append(all,
		Pair{"Admin", admin(p) + handed(p)},
		Pair{"Site", described(p.Face)},
		Pair{"Care", s.entrusted(p.Care, p.In != nil && p.In.Mail != nil, p.Admin.Email)},
		Pair{"Account", inAccount(p)})
	if len(p.Needs) > 0 {
		all = append(all, Pair{"Checked", checked(p.Needs)})
	}
	if len(p.Todo) > 0 {
		all = append(all, Pair{"Left to do", strings.Join(p.Todo, "\n")})
	}
	out.WriteString(s.pairs(all))
	out.WriteString(s.noted(p.Warnings))
	return out.String()
}

// Form words a plan as the form that it is: what can be changed has a number. Without a plan
// it shows the answers alone.
func (s *Streams) Form(p *plan.Plan, form wizard.Form) string {
	var out strings.Builder
	if p != nil {
		fmt.Fprintf(&out, "  %s  →  %s\n\n", s.paint(strong, Clean(p.Title+" "+p.Release)),
			s.paint(accent, Clean(p.Place.URL)))
	}
	group := ""
	for i, l := range form.Lines {
		name := ""
		if l.Group != group {
			name, group = l.Group, l.Group
		}
		out.WriteString(s.formLine(name, l.Number, s.inForm(p, l)))
		if last := i+1 == len(form.Lines) || form.Lines[i+1].Group != group; last && len(form.Folded[group]) > 0 {
			out.WriteString(s.formLine("", "", strings.Join(form.Folded[group], " · ")))
		}
	}
	if p == nil {
		return out.String()
	}
	out.WriteString(s.formLine("Account", "", inAccount(p)))
	if len(p.Needs) > 0 {
		out.WriteString(s.formLine("Checked", "", checked(p.Needs)))
	}
	if len(p.Todo) > 0 {
		out.WriteString(s.formLine("Left to do", "", strings.Join(p.Todo, "\n")))
	}
	out.WriteString(s.noted(p.Warnings))
	return out.String()
}

// beside is how far to the right the text of a form's line stands.
const beside = 18

func (s *Streams) formLine(name, number, text string) string {
	lines := strings.Split(s.fold(Clean(Spelled(text)), beside), "\n")
	if name+number == "" { // what is taken as usual
		for i := range lines {
			lines[i] = s.paint(faint, lines[i])
		}
	}
	head := "  " + s.paint(faint, fmt.Sprintf("%-10s", name)) + s.paint(accent, fmt.Sprintf("%3s", number)) + "   "
	return head + strings.Join(lines, "\n"+strings.Repeat(" ", beside)) + "\n"
}

// inForm words a line, with all that the plan knows of it.
func (s *Streams) inForm(p *plan.Plan, l wizard.Line) string {
	if p == nil {
		return l.Text
	}
	switch {
	case l.ID == "at":
		return p.Place.URL + "\n" + where(p)
	case l.ID == wizard.DataLine && p.Data != nil:
		return data(p.Data)
	case l.ID == wizard.CareLine:
		return s.entrusted(p.Care, p.In != nil && p.In.Mail != nil, p.Admin.Email)
	case l.ID == answer.AdminPassword && p.Admin.Generated:
		return fmt.Sprintf("password: generated (%d characters)", p.Admin.Length)
	}
	return l.Text
}

func (s *Streams) noted(warnings []string) string {
	var out strings.Builder
	for _, w := range warnings {
		fmt.Fprintf(&out, "\n  %s %s\n", s.paint(accent, "Note:"), strings.ReplaceAll(s.fold(sentence(Clean(Spelled(w))), 8),
			"\n", "\n        "))
	}
	return out.String()
}

func where(p *plan.Plan) string {
	text := "folder " + p.Place.Folder + ", " + places[p.Place.State]
	for _, name := range p.Changes.SetAside {
		text += "\nset aside: " + name
	}
	if p.Place.DataFolder != "" {
		text += "\nfiles that the web does not see: " + p.Place.DataFolder + ", new"
	}
	return text
}

func data(d *site.Data) string {
	if d.User == "" {
		return fmt.Sprintf("database %s, a file that the web does not see, in %s (%s)", d.Name, d.Server, Engine(d.Engine))
	}
	if d.From == "new" {
		text := fmt.Sprintf("database %s and user %s on %s (%s)\nthe user may use that database and no other", d.Name,
			d.User, d.Server, Engine(d.Engine))
		if d.Tables != "" {
			text += "; tables begin with " + d.Tables
		}
		return text
	}
	text := fmt.Sprintf("database %s, which is there, as user %s on %s (%s)", d.Name, d.User, d.Server, Engine(d.Engine))
	if d.Tables != "" {
		text += "\ntables begin with " + d.Tables
	}
	if d.Others > 0 {
		text += fmt.Sprintf("; %s of others stay as they are", Counted(d.Others, "table"))
	}
	return text
}

// handed says to whom a page about the site is mailed, where there is somebody.
func handed(p *plan.Plan) string {
	to := p.Answers["handover.to"]
	switch {
	case to == "":
		return ""
	case p.Answers["handover.password"] == "yes":
		return "\na page about it, with the password, is mailed to " + to
	}
	return "\na page about it, without the password, is mailed to " + to
}

func admin(p *plan.Plan) string {
	password := "password as given"
	if p.Admin.Generated {
		password = fmt.Sprintf("password generated (%d characters)", p.Admin.Length)
	}
	text := p.Admin.Name + ", " + p.Admin.Email + ", " + password
	if name := strings.TrimSpace(p.Admin.First + " " + p.Admin.Last); name != "" {
		text += "\ncalled " + name
	}
	if p.Admin.Support != "" {
		text += "\nvisitors write to " + p.Admin.Support
	}
	if p.Place.AdminFolder != "" {
		text += "\nadmin area in the folder " + p.Place.AdminFolder
	}
	return text
}

func described(p site.Branding) string {
	text := fmt.Sprintf("“%s”, %s", p.Title, language.English(p.Language))
	if p.Subtitle != "" {
		text += "\n" + p.Subtitle
	}
	for _, t := range p.Asked {
		switch {
		case t.Secret:
			text += "\n" + t.Ask + ": given, kept in the vault"
		case t.Answer != "":
			text += "\n" + t.Ask + ": " + wizard.OneLine(t.Answer)
		}
	}
	var extras []string
	for _, t := range p.Extras {
		extras = append(extras, t.Ask+": "+t.Answer)
	}
	if len(extras) > 0 {
		text += "\n" + strings.Join(extras, " · ")
	}
	return text
}

// checked words what was compared with the release's requirements.
func checked(needs []plan.Need) string {
	var out []string
	for _, n := range needs {
		text := n.What + " " + n.Have
		if n.What == "space" {
			text = n.Have + " of space left"
		} else if n.Have == "there" {
			text = n.What
		}
		if !n.OK {
			text += " (" + Range(n.Wanted) + " would be better)"
		}
		out = append(out, text)
	}
	return strings.Join(out, " · ")
}

var places = map[string]string{"new": "new", "empty": "there and empty", "beside": "beside what lies in it",
	"occupied": "emptied first"}

// Engine gives a database engine's own name.
func Engine(engine string) string {
	e, _ := database.EngineOf(engine)
	return e.Title
}

// Range words a range of versions: >=10.4 is 10.4 or newer.
func Range(versions string) string {
	if least, ok := strings.CutPrefix(versions, ">="); ok && !strings.ContainsAny(least, "<>=,| ") {
		return least + " or newer"
	}
	return versions
}

// inAccount says what comes to which account.
func inAccount(p *plan.Plan) string {
	if p.Account == "" {
		return changes(p.Changes)
	}
	return p.Account + "   " + changes(p.Changes)
}

func changes(c plan.Changes) string {
	parts := []string{fmt.Sprintf("+ %s, %s", Counted(c.Files, "file"), humanize.Bytes(uint64(c.Bytes)))}
	for _, x := range []struct {
		list []string
		name string
	}{{c.Databases, "database"}, {c.Users, "user"}, {c.Timers, "timer"}} {
		if len(x.list) > 0 {
			parts = append(parts, "+ "+Counted(len(x.list), x.name))
		}
	}
	if n := len(c.SetAside); n > 0 {
		entries := "entries"
		if n == 1 {
			entries = "entry"
		}
		parts = append(parts, fmt.Sprintf("%d %s set aside", n, entries))
	}
	return strings.Join(parts, "   ")
}

// Counted is a number of something, as people say it.
func Counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return humanize.Comma(int64(n)) + " " + what + "s"
}

// Installed prints how an install ended. The password is shown on a terminal,
// or where it was asked for.
func (s *Streams) Installed(r *work.Done, app string) {
	s.Print("%s\n", s.paint(good, app+" "+r.Site.Release+" is installed and checked."))
	all := []Pair{{"Address", r.Site.URL}, {"Admin area", r.Site.AdminURL}, {"Name", r.Site.Admin.Name}}
	again := "tivset reveal " + r.Site.Address
	switch {
	case s.ShowPassword || s.OutTerminal && !s.Copies && !r.Given:
		all = append(all, Pair{"Password", r.Password.Reveal() + "\nto see it again:\n" + again})
	case r.Given:
		all = append(all, Pair{"Password", "as you gave it; to see it:\n" + again})
	default:
		all = append(all, Pair{"Password", "in the vault; see it with: " + again})
	}
	if s.Loud {
		for _, c := range r.Checks {
			all = append(all, Pair{"Checked", c.Name + ": " + c.Detail})
		}
	}
	s.Pairs(all)
	s.Say("\n%s", s.fold(s.proven(r.Checks), 0))
	if r.HandedTo != "" {
		s.Print("The page about it was mailed to %s.", r.HandedTo)
	}
	for _, t := range r.Todo {
		s.Print("%s %s", s.paint(accent, "Left to do:"), Clean(t))
	}
	for i, w := range r.Warnings {
		if i >= r.Reviewed || s.Quiet { // a quiet run shows no review
			s.Warn(w)
		}
	}
}

// Strength prints a password and how long it withstands a guesser.
func (s *Streams) Strength(p secret.Text, r secret.Strength) {
	s.Print("%s", p.Reveal())
	text := "a guesser needs " + r.Lasts
	if len(r.Reasons) > 0 {
		text += ": " + strings.Join(r.Reasons, ", ")
	}
	s.Say("%s", s.paint(faint, text))
}

// Entrusted prints the care of a site, and the release that is due by it, "" for none.
func (s *Streams) Entrusted(address, sentence, due string) {
	text := address + " " + sentence + "."
	if due != "" {
		text += " " + due + " is due now."
	}
	s.Print("%s", strings.ReplaceAll(s.fold(text, 2), "\n", "\n  "))
}

// entrusted says a site's care, each part on a line of its own, and whether anything does it.
func (s *Streams) entrusted(c care.Care, mails bool, usual string) string {
	text := strings.ReplaceAll(c.Sentence(mails, usual), "; ", ";\n")
	if often, _ := c.Every(); s.Idle != "" && (often > 0 || c.AcceptsLevel("fixes")) {
		text += "\n(" + s.Idle + ")"
	}
	return text
}
