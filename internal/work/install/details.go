package install

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/mail"
	"tivset/internal/plan"
	"tivset/internal/work"
)

// sendDetails mails what there is to know about a new site, if that was asked
// for. A mail that fails does not fail the install; the warning says so.
func sendDetails(ctx context.Context, d *work.Desk, p *plan.Plan, r *work.Done) string {
	to := p.Answers["details.to"]
	if to == "" {
		return ""
	}
	m := mail.Message{From: p.In.Mail.From, To: to, Subject: "Your new site: " + r.Site.Title, Text: detailsText(p, r)}
	if err := d.SendMail(ctx, p.In.Mail.Server, m); err != nil {
		return "the details could not be mailed to " + to + ": " + err.Error() + "; see them with: " +
			fault.Call("show", r.Site.Address)
	}
	return ""
}

func detailsText(p *plan.Plan, r *work.Done) string {
	var b strings.Builder
	line := func(name, text string) { fmt.Fprintf(&b, "%-12s %s\n", name+":", text) }
	fmt.Fprintf(&b, "%s %s is installed and checked.\n\n", p.Title, r.Site.Release)
	line("Address", r.Site.URL)
	line("Admin side", r.Site.AdminURL)
	line("Name", r.Site.Admin.Name)
	if p.Answers["details.password"] == "yes" {
		line("Password", r.Password.Reveal())
	} else {
		line("Password", "see it with: "+fault.Call("reveal", r.Site.Address))
	}
	line("E-mail", r.Site.Admin.Email)
	fmt.Fprintf(&b, "\nWhat was chosen\n\n")
	line("Title", r.Site.Title)
	line("Language", r.Site.Language)
	for _, t := range append(slices.Clone(p.Face.Asked), p.Face.Extras...) {
		if t.Answer != "" {
			line(t.Ask, t.Answer)
		}
	}
	line("Updates", r.Site.Care.Updates)
	line("Backup", r.Site.Care.Backup)
	for i, t := range p.Todo {
		if i == 0 {
			fmt.Fprintf(&b, "\nLeft to do\n\n")
		}
		fmt.Fprintf(&b, "%s.\n", t)
	}
	fmt.Fprintf(&b, "\nThe title and all that visitors see can be changed on the admin side.\n")
	return b.String()
}
