package work

import (
	"context"
	"errors"
	"time"

	"tivset/internal/app/release"
	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/notify/mail"
	"tivset/internal/plan"
	"tivset/internal/records/home"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/records/outbox"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/step"
)

// UsualPatience is the usual value of Service.Patience.
const UsualPatience = 30 * time.Second

// Service is what all ways work with. All of its fields are given by whoever wires
// the program.
type Service struct {
	Book     *site.Book
	Hosting  *hosting.Opener
	Planner  *plan.Planner
	Archives *release.Archives
	Examiner *check.Examiner
	Maker    secret.Maker
	Now      func() time.Time
	Who      string          // user and machine, for others who find a job under way
	Order    int64           // of the queue, that is carried out; 0 for none
	Progress func(job.Event) // may be nil
	Patience time.Duration   // for how long an undo waits for a server that went away
	// Only plans are made: a job is an error.
	Plans bool
	// what fails is left as it is, for the author of a kit to look at
	KeepFailed bool
	Ways       Table

	// Agree has somebody agree to what cannot be taken back; its error says why
	// not. Nobody agrees where it is nil.
	Agree func(ctx context.Context, what string) error

	SendMail func(ctx context.Context, server mail.Server, m mail.Message) error
	// Notify tells a program, exec:PROGRAM or https://…, of an event.
	Notify func(ctx context.Context, to, id string, event []byte) error
}

// Mail sends a mail by the server that an account has. From is who it is from: the account's.
func (d *Service) Mail(ctx context.Context, a *account.Account, m mail.Message) error {
	server, err := d.Book.MailServer(a)
	if err != nil {
		return err
	}
	m.From = a.Mail.From
	return d.SendMail(ctx, server, m)
}

// SendOut sends what this machine is to tell, as far as it is due.
func (d *Service) SendOut(ctx context.Context) outbox.Came {
	return outbox.At(d.Book.Home).Send(ctx, d.Now, d.post)
}

// post hands one letter to whoever takes it.
func (d *Service) post(ctx context.Context, l outbox.Letter) error {
	if home.IsProgram(l.To) {
		return d.Notify(ctx, l.To, l.ID, l.Body)
	}
	a, err := d.Book.Home.Account(l.Account)
	if err != nil {
		return err
	}
	if a.Mail == nil {
		return fault.New(fault.Usage, "the account "+l.Account+" has no mail server", "", "Write mail: into it.")
	}
	return d.Mail(ctx, a, mail.Message{ID: l.ID, To: l.To, Subject: l.Subject, Text: l.Text})
}

// Post keeps a mail in the outbox, and sends it with whatever waits there. Its error is of a mail that could not be
// kept; one that is not taken now waits.
func (d *Service) Post(ctx context.Context, account string, m mail.Message) error {
	token, err := d.Maker.Token(4)
	if err != nil {
		return err
	}
	now := d.Now().UTC()
	l := outbox.Letter{ID: now.Format("20060102-150405-") + token, To: m.To, Account: account, Begun: now,
		Subject: m.Subject, Text: m.Text}
	if err := outbox.At(d.Book.Home).Put(l); err != nil {
		return err
	}
	for _, failed := range d.SendOut(ctx).Failed {
		var waits *outbox.Waits
		if errors.As(failed, &waits) && waits.Letter.ID == l.ID {
			return failed
		}
	}
	return nil
}

// shared says whether other machines may go on with what this one has begun.
func (d *Service) shared() bool { return d.Book.Home.Shared != nil }

// Held is a recorded site that is there, with its account open.
type Held struct {
	ledger.Site
	Of *site.Site
	In *hosting.Account
}

// Hold finds a site by what somebody calls it and opens its account. The caller
// closes it.
func (d *Service) Hold(ctx context.Context, word string) (*Held, error) {
	found, err := d.Book.Find(ctx, word)
	if err != nil {
		return nil, err
	}
	s, err := d.Book.From(found)
	if err != nil {
		return nil, err
	}
	in, err := d.Hosting.Open(ctx, s.In)
	if err != nil {
		return nil, err
	}
	return &Held{found, s, in}, nil
}

// Close lets go of the account.
func (h *Held) Close() error { return h.In.Close() }

// Begin makes the tools of a new job that makes or changes a site in its open
// account.
func (d *Service) Begin(in *hosting.Account, s *site.Site) (*step.Tools, error) {
	token, err := d.Maker.Token(4)
	if err != nil {
		return nil, err
	}
	in.Under(d.Hosting)
	t := d.tools(in, job.NewID(d.Now(), token))
	t.Site = s
	return t, nil
}

// tools are those of a job of which nothing else is known.
func (d *Service) tools(in *hosting.Account, id string) *step.Tools {
	return &step.Tools{In: in, Book: d.Book, Hosting: d.Hosting, Maker: d.Maker, Now: d.Now, Job: id, Who: d.Who,
		Count: func(int64, int64, string) {}, Result: &step.Result{}}
}

// Done is what a job came to.
type Done struct {
	Job      string
	Site     ledger.Site
	Password secret.Text
	Given    bool // the password is the owner's own
	Checks   []check.Checked
	Warnings []string
	Reviewed int      // how many of the warnings the review had said
	Todo     []string // what is left for the owner to do
	HandedTo string   // to whom the page about a new site was mailed
}

// Done tells what has become of the job's site. An interrupt that comes now is too
// late: the job is at its end. Where the ledger cannot be read any more, the site is as the
// job recorded it.
func (d *Service) Done(ctx context.Context, t *step.Tools, reviewed ...string) (Done, error) {
	now, err := d.Book.Ledger.Site(context.WithoutCancel(ctx), t.Site.Address())
	switch {
	case err != nil && t.Result.Recorded == nil:
		return Done{}, err
	case err != nil:
		now = *t.Result.Recorded
		t.Result.Warnings = append(t.Result.Warnings, "What is on record of the site now could not be read: "+err.Error())
	}
	d.Book.FillIn(&now)
	done := Done{Job: t.Job, Site: now, Password: t.Site.Password(), Given: true,
		Warnings: append(append([]string{}, reviewed...), t.Result.Warnings...), Reviewed: len(reviewed), Todo: []string{}}
	done.Checks = make([]check.Checked, len(t.Result.Checks))
	for i, c := range t.Result.Checks {
		c.Detail = secret.Hide(c.Detail, t.Site.Hidden())
		done.Checks[i] = c
	}
	for i, w := range done.Warnings {
		done.Warnings[i] = secret.Hide(w, t.Site.Hidden())
	}
	return done, nil
}

// Closing lets go of a held site after a plan that could not be made.
func Closing(h *Held, err error) error { return errors.Join(err, h.Close()) }
