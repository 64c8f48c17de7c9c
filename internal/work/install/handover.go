package install

import (
	"context"

	"tivset/internal/fault"
	"tivset/internal/notify/mail"
	"tivset/internal/plan"
	"tivset/internal/site/handover"
	"tivset/internal/work"
)

// handOver mails the page of a new site, if that was asked for. A mail that fails does not
// fail the install; the warning says so.
func handOver(ctx context.Context, d *work.Service, p *plan.Plan, r *work.Done) string {
	to := p.Answers["handover.to"]
	if to == "" {
		return ""
	}
	from := handover.From{Record: r.Site, Site: &p.Site, By: d.Who, Ask: p.In.Mail.From, Told: true, Now: d.Now()}
	if p.Answers["handover.password"] == "yes" {
		from.Password = r.Password
	}
	page := handover.Of(from)
	html, err := handover.HTML(page)
	if err == nil {
		err = d.Mail(ctx, p.In, mail.Message{To: to, Subject: "Your new site: " +
			r.Site.Title, Text: handover.Text(page), HTML: string(html)})
	}
	if err != nil {
		return "the site could not be handed over to " + to + ": " + err.Error() + "; do it with: " +
			fault.Call("handover", r.Site.Address, "--to", to)
	}
	return ""
}
