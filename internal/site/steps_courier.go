package site

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/courier"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/web"
)

// sendCourier puts a courier into the document root and has it tell what its
// PHP is, before anything else is made. Over FTP it stays, to unpack and to
// work in databases that are seen only from inside; elsewhere it goes at once.
type sendCourier struct {
	*env `json:"-"`
	courier.Place
}

func (*sendCourier) Kind() string  { return "send-courier" }
func (*sendCourier) Title() string { return "Look at the account's PHP" }

func (c *sendCourier) Do(ctx context.Context) error {
	sent, found, err := c.call(ctx, c.Place)
	var silent *courier.Silent
	if errors.As(err, &silent) && !silent.Shown && !inside(c.plan.server) {
		// It may lack openssl; whether the app works there, the checks tell.
		c.plan.Warnings = append(c.plan.Warnings, "PHP could not be looked at: it needs its extension openssl for that")
		return c.Undo(ctx)
	}
	if err != nil {
		return err
	}
	if err := fitPHP(c.plan, found); err != nil {
		return err
	}
	c.carries = c.bears(found)
	if c.carries || inside(c.plan.server) {
		c.courier = sent
		return nil
	}
	return sent.End(ctx)
}

// bears says whether the courier can unpack: what it writes has to belong to the
// account's user, or nobody here could take it away again.
func (c *sendCourier) bears(found courier.Found) bool {
	to := c.account.Remote()
	overFTP := to != nil && to.Scheme != account.SFTP
	return overFTP && found.Owner && found.Unpacks
}

func (c *sendCourier) Undo(ctx context.Context) error {
	c.courier = nil
	return courier.Dismiss(ctx, c.files, c.Place)
}

// call sends a courier and hears what its PHP is.
func (e *env) call(ctx context.Context, p courier.Place) (*courier.Courier, courier.Found, error) {
	sent, err := courier.Send(ctx, e.files, web.NewVisitor(connections(e.account)), p, e.Now())
	if err != nil {
		return nil, courier.Found{}, err
	}
	var found courier.Found
	functions, settings := lookedFor(e.plan)
	err = e.settled(ctx, func() error {
		found, err = sent.Look(ctx, functions, settings)
		return err
	})
	var silent *courier.Silent
	if errors.As(err, &silent) {
		err = fault.New(fault.Failed, "the PHP that serves the site cannot be asked", p.URL, "Ask the host to switch PHP on for this domain, with its extension openssl.").Because(err)
	}
	return sent, found, err
}

// lookedFor names what the plan's release wants to know of PHP.
func lookedFor(p *Plan) (functions, settings []string) {
	if p == nil || p.release == nil || p.release.Needs.PHP == nil {
		return nil, nil
	}
	for _, wish := range wishes(p.release.Needs.PHP) {
		functions, settings = append(functions, wish.Functions...), slices.AppendSeq(settings, maps.Keys(wish.Settings))
	}
	return functions, settings
}

func wishes(p *kit.PHP) []kit.PHPWish {
	out := []kit.PHPWish{p.Wish()}
	if p.Recommended != nil {
		out = append(out, *p.Recommended)
	}
	return out
}

// fitPHP compares what the release needs with the PHP that serves the site.
func fitPHP(p *Plan, found courier.Found) error {
	wanted := p.release.Needs.PHP
	if wanted == nil {
		return nil
	}
	have := runtime{found.Version, found.Extensions, found.Functions, found.Settings}
	var problems []fault.Problem
	for _, n := range phpNeeds(wanted.Wish(), have, false) {
		if !n.OK {
			problems = append(problems, fault.Problem{ID: n.What, What: fmt.Sprintf("%s is needed, and there is %s", n.Wanted, n.Have), Remedy: n.Remedy})
		}
	}
	if n := spaceNeed(max(p.survey.Bytes, p.release.Disk()), found.Free); found.Free >= 0 && !n.OK {
		problems = append(problems, fault.Problem{ID: n.What, What: fmt.Sprintf("%s is needed, and there is %s", n.Wanted, n.Have), Remedy: n.Remedy})
	}
	if wanted.Recommended != nil {
		for _, n := range phpNeeds(*wanted.Recommended, have, true) {
			if warning := n.warning(); !n.OK && !slices.Contains(p.Warnings, warning) {
				p.Warnings = append(p.Warnings, warning)
			}
		}
	}
	return lacks(p, problems)
}

// dismissCourier takes the courier away when its work is done.
type dismissCourier struct {
	*env `json:"-"`
	courier.Place
}

func (*dismissCourier) Kind() string               { return "dismiss-courier" }
func (*dismissCourier) Title() string              { return "Take the helping file away" }
func (*dismissCourier) Undo(context.Context) error { return nil }

func (d *dismissCourier) Do(ctx context.Context) error {
	if d.courier == nil {
		return courier.Dismiss(ctx, d.files, d.Place)
	}
	sent := d.courier
	d.courier = nil
	return sent.End(ctx)
}

// inside says whether a database server is seen only from inside the hosting.
func inside(d *account.Database) bool {
	return d != nil && strings.HasPrefix(d.Server, account.Courier)
}

// signIn signs in to a site's database, by the courier where that is the way.
// When it has gone already, as in an undo, another is sent and goes with the
// session.
func (e *env) signIn(ctx context.Context, d *account.Database, l database.Login, place courier.Place) (database.Session, error) {
	if !inside(d) {
		return e.OpenSession(ctx, e.account, d, l)
	}
	l.Server = strings.TrimPrefix(d.Server, account.Courier)
	if e.courier != nil {
		return opened(e.courier.Open(ctx, d.Engine, l))
	}
	token, err := e.Maker.Token(32)
	if err != nil {
		return nil, err
	}
	place.Name = courierName(token)
	made, err := files.MkdirAll(ctx, e.files, place.Store, 0o700)
	if err != nil {
		return nil, err
	}
	leave := func() error {
		err := courier.Dismiss(context.WithoutCancel(ctx), e.files, place)
		if made != "" {
			err = errors.Join(err, dropEmpty(context.WithoutCancel(ctx), e.files, place.Store))
		}
		return err
	}
	sent, _, err := e.call(ctx, place)
	if err != nil {
		return nil, errors.Join(err, leave())
	}
	s, err := sent.Open(ctx, d.Engine, l)
	if err != nil {
		return nil, errors.Join(err, leave())
	}
	return &visiting{s, leave}, nil
}

func opened(s *courier.Session, err error) (database.Session, error) {
	if err != nil {
		return nil, err
	}
	return s, nil
}

// visiting is a session whose courier goes with it.
type visiting struct {
	database.Session
	leave func() error
}

func (v *visiting) Close() error { return errors.Join(v.Session.Close(), v.leave()) }

func courierName(token string) string { return "tivset-" + token + ".php" }

// courierPlace is where a job's courier lies.
func (e *env) courierPlace() (courier.Place, error) {
	token, err := e.Maker.Token(32)
	d := e.plan.place.Domain
	return courier.Place{Root: d.Folder, URL: d.URL, Name: courierName(token), Store: e.account.Store}, err
}
