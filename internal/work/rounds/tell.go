package rounds

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tivset/internal/answer/care"
	"tivset/internal/fault"
	"tivset/internal/records/home"
	"tivset/internal/records/ledger"
	"tivset/internal/records/outbox"
)

// letter is what one person, or one program, is told of a round. It lies in the outbox from its first line on, so that
// a round which is killed loses nothing of what was done.
type letter struct {
	ID       string    `json:"id"`
	To       string    `json:"to"`
	Account  string    `json:"account,omitempty"` // whose mail server takes it
	At       time.Time `json:"at"`
	Who      string    `json:"who"`
	Owner    *owner    `json:"owner,omitempty"` // it goes to the site's owner, who is not the operator
	Passages []passage `json:"passages"`
	Cut      bool      `json:"cut,omitempty"` // the round was ended before it was through
}

// owner is what a site's owner reads of who works for them.
type owner struct {
	Operator string `json:"operator,omitempty"` // a name; may be empty
	Address  string `json:"address"`            // where questions go
}

// passage is a line of a letter.
type passage struct {
	Account string `json:"account"`
	Address string `json:"address"`
	Title   string `json:"title"`
	URL     string `json:"url"`
	App     string `json:"app"`
	Release string `json:"release"`
	What    string `json:"what"`
	Detail  string `json:"detail"`
	Remedy  string `json:"remedy,omitempty"`

	// Troubles of which is not noted yet that somebody is told of them, and the moment that is to be noted.
	Noting []string  `json:"noting,omitempty"`
	At     time.Time `json:"at"`
}

// mailing is what a round tells, and whom.
type mailing struct {
	box      *outbox.Box
	run      string // this round's name in the outbox
	free     func() // lets go of it
	letters  map[string]*letter
	programs []home.Notified
	left     []string        // what killed rounds had noted, and is in this one's letters now
	written  map[string]bool // what letters of killed rounds hold: run, address, what
	operator string          // the address that the care of new sites tells; "" where none does
}

// openMailing begins the letters of a round, after those of rounds that were killed are ended.
func (o *round) openMailing(ctx context.Context) (err error) {
	h := o.desk.Book.Home
	o.mailing = mailing{box: outbox.At(h), letters: map[string]*letter{},
		written: map[string]bool{}}
	if o.request.Dry {
		return nil
	}
	if o.programs, err = h.Notified(); err != nil {
		o.unsent(err) // the sites are looked after all the same
	}
	if usual, err := h.DefaultCare(); err == nil {
		o.operator = usual.Address()
	}
	token, err := o.desk.Maker.Token(4)
	if err != nil {
		return err
	}
	o.run = o.desk.Now().UTC().Format("20060102-150405-") + token
	o.free, err = o.box.Hold(o.run)
	if err == nil && o.free == nil {
		err = errors.New("the outbox cannot be held: " + o.run)
	}
	if err == nil {
		o.endLeft(ctx)
	}
	return err
}

// endLeft ends the letters of rounds that were killed: what was done is told of.
func (o *round) endLeft(ctx context.Context) {
	left, err := o.box.Left()
	o.unsent(err)
	for _, one := range left {
		if one.To == "" {
			continue
		}
		l := &letter{}
		if err := json.Unmarshal(one.Draft, l); err != nil {
			o.unsent(errors.Join(fmt.Errorf("what a maintenance run left to be told cannot be read: %w", err),
				o.box.Drop(one.ID)))
			continue
		}
		l.Cut = true
		for _, p := range l.Passages {
			o.written[one.Run+p.Address+p.What] = true
		}
		var told []ledger.Telling
		if told, err = o.desk.Book.Ledger.Told(ctx); err != nil {
			o.unsent(err)
			return // the next round ends them
		}
		l.Passages = slices.DeleteFunc(l.Passages, func(p passage) bool { return !o.mine(ctx, p, told) })
		o.unsent(o.end(l))
	}
	for _, one := range left {
		if one.To == "" {
			o.unsent(o.wasIntended(ctx, one))
		}
	}
}

// mine says whether a line of a round that was killed is to be told: not where another machine has told of the same.
func (o *round) mine(ctx context.Context, p passage, told []ledger.Telling) bool {
	if len(p.Noting) == 0 {
		return true
	}
	noted := slices.ContainsFunc(told, func(t ledger.Telling) bool {
		return t.Address == p.Address && t.Trouble == p.Noting[0] && t.At.Equal(p.At)
	})
	if noted {
		return true
	}
	mine, err := o.note(ctx, p.Address, p.Noting, p.At)
	return mine || err != nil // rather twice than never
}

func (o *round) unsent(err error) {
	if err != nil {
		o.out.Unsent = append(o.out.Unsent, err)
	}
}

// tell writes a line into the letters of all whom it concerns. A trouble that lasts is told again after a week, by
// whichever machine. That it is told is noted after it is written, so that a kill between the two loses nothing.
func (o *round) tell(ctx context.Context, l Line) {
	to := o.concerned(l)
	if len(to) == 0 {
		return
	}
	p := passage{Account: l.Site.Account, Address: l.Site.Address, Title: l.Site.Title, URL: l.Site.URL, App: l.Site.App,
		Release: l.Site.Release, What: l.What, Detail: l.Detail, Remedy: l.Remedy,
		At: o.desk.Now().UTC().Truncate(time.Millisecond)}
	if l.of == care.Trouble && !l.noted {
		p.Noting = l.notes()
	}
	for _, one := range to {
		one.Passages = append(one.Passages, p)
		o.unsent(o.write(one))
	}
	if p.Noting == nil {
		return
	}
	mine, err := o.note(ctx, p.Address, p.Noting, p.At)
	o.unsent(err)
	for _, one := range to {
		if last := len(one.Passages) - 1; mine || err != nil {
			one.Passages[last].Noting = nil
		} else {
			one.Passages = one.Passages[:last]
		}
		o.unsent(o.write(one))
	}
}

// concerned are the letters into which a line goes.
func (o *round) concerned(l Line) (to []*letter) {
	for _, p := range o.programs {
		if care.Concerns(p.Of, l.of) {
			to = append(to, o.letterBy("", p.To, "", nil))
		}
	}
	a, err := o.desk.Book.Home.Account(l.Site.Account)
	if err != nil || a.Mail == nil {
		return to
	}
	address, of := o.addressee(l)
	if address == "" {
		return to
	}
	return append(to, o.letterBy(a.Mail.Server, address, l.Site.Account, of))
}

// addressee is whom a line is mailed to. Where the operator is known, troubles that nobody else is named for are the
// operator's, and the owner reads of what was done.
func (o *round) addressee(l Line) (address string, of *owner) {
	address = l.Site.Care.Told(l.of, l.Site.Admin.Email)
	if address == "" || o.operator == "" || address == o.operator || l.Site.Care.Address() != "" {
		return address, nil
	}
	if l.of == care.Trouble {
		return o.operator, nil
	}
	name, _ := o.desk.Book.Home.Operator()
	return address, &owner{Operator: name, Address: o.operator}
}

// letterBy is the letter to somebody through a mail server, or to a program, which needs none.
func (o *round) letterBy(server, to, account string, of *owner) *letter {
	key := server + " " + to
	if of != nil {
		key += " owner"
	}
	if o.letters[key] == nil {
		sum := sha256.Sum256([]byte(key))
		o.letters[key] = &letter{ID: o.run + "-" + hex.EncodeToString(sum[:4]), To: to, Account: account, At: o.begun.UTC(),
			Who: o.desk.Who, Owner: of}
	}
	return o.letters[key]
}

// write keeps a letter as far as it is.
func (o *round) write(l *letter) error {
	if len(l.Passages) == 0 {
		return o.box.Drop(l.ID)
	}
	draft, err := json.Marshal(l)
	if err != nil {
		return err
	}
	return o.box.Put(outbox.Letter{ID: l.ID, To: l.To, Account: l.Account, Begun: l.At, Draft: draft, Run: o.run})
}

// end makes a letter one to be sent.
func (o *round) end(l *letter) error {
	if len(l.Passages) == 0 {
		return o.box.Drop(l.ID)
	}
	out := outbox.Letter{ID: l.ID, To: l.To, Account: l.Account, Begun: l.At}
	if home.IsProgram(l.To) {
		body, err := json.Marshal(l.event())
		if err != nil {
			return err
		}
		out.Body = body
	} else {
		out.Subject, out.Text = l.subject(), l.text()
	}
	return o.box.Put(out)
}

// closeMailing ends the letters of the round, and sends them with whatever waits.
func (o *round) closeMailing(ctx context.Context) {
	if o.free == nil {
		return
	}
	for _, l := range o.letters {
		o.unsent(o.end(l))
	}
	for _, id := range o.left {
		o.unsent(o.box.Drop(id))
	}
	o.free()
	came := o.desk.SendOut(ctx)
	for _, err := range came.Failed {
		o.unsent(err)
	}
	for _, l := range came.GivenUp {
		o.unsent(fault.New(fault.Failed, fmt.Sprintf("%s could not be told for %d days, and is not tried again: %s", l.To,
			int(outbox.KeptFor/(24*time.Hour)), l.Why), l.Subject, "What was done is in the report: "+fault.Call("report")))
	}
}

// notes are the troubles that are noted with a line: tomorrow's check is to find the same as
// an update that was not made.
func (l Line) notes() []string {
	if strings.HasPrefix(l.key, "update ") {
		return []string{l.key, "check updates"}
	}
	return []string{l.key}
}

// note notes that somebody is told of a trouble at a moment; false where somebody was told lately.
func (o *round) note(ctx context.Context, address string, troubles []string, at time.Time) (mine bool, err error) {
	wait := again
	for _, trouble := range troubles {
		noted, err := o.desk.Book.Ledger.Tell(ctx, ledger.Telling{Address: address, Trouble: trouble, At: at}, wait)
		if err != nil {
			return false, err
		}
		if wait > 0 && !noted {
			return false, nil
		}
		wait = 0
	}
	return true, nil
}

// event is what programs are told: docs/json.md.
type event struct {
	ID    string    `json:"id"`
	At    time.Time `json:"at"`
	Who   string    `json:"by"`
	Cut   bool      `json:"interrupted,omitempty"`
	Lines []happens `json:"lines"`
}

// happens is a line of an event.
type happens struct {
	Account string `json:"account"`
	Address string `json:"address"`
	URL     string `json:"url"`
	Title   string `json:"title"`
	App     string `json:"app"`
	Release string `json:"release"`
	What    string `json:"what"`
	Detail  string `json:"detail"`
	Remedy  string `json:"remedy,omitempty"`
}

func (l *letter) event() event {
	e := event{ID: l.ID, At: l.At, Who: l.Who, Cut: l.Cut}
	for _, p := range l.Passages {
		e.Lines = append(e.Lines, happens{p.Account, p.Address, p.URL, p.Title, p.App, p.Release, p.What,
			p.Detail, p.Remedy})
	}
	return e
}
