package trial

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"tivset/internal/answer"
	"tivset/internal/app/archive"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
	"tivset/internal/check"
	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/web"
	"tivset/internal/plan"
	"tivset/internal/records/ledger"
	"tivset/internal/sites"
	"tivset/internal/work/adopt"
	"tivset/internal/work/backup"
	"tivset/internal/work/install"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/renew"
	"tivset/internal/work/restore"
	"tivset/internal/work/update"
)

// life is an app's life on a ground.
type life struct {
	*Trial
	*world
	kit    catalogue.Entry
	ground Ground

	begin  string // the account before
	site   ledger.Site
	backup string   // the one that the owner asked for
	mine   []string // what the owner put there, below the site's folder
}

// errSkip is what does not apply to an app.
var errSkip = errors.New("does not apply")

// act is one part of a life. It says what is worth knowing.
type act struct {
	name string
	do   func(context.Context) (string, error)
}

// live does all acts, until one fails.
func (l *life) live(ctx context.Context) bool {
	for _, a := range l.acts() {
		begun := time.Now()
		said, err := a.do(ctx)
		if errors.Is(err, errSkip) {
			continue
		}
		l.Tell(Line{l.ground.Name(), a.name, time.Since(begun), said, err})
		if err != nil {
			return false
		}
	}
	return true
}

func (l *life) acts() []act {
	oldest := l.kit.Releases[len(l.kit.Releases)-1].Release
	out := []act{
		{"install " + l.kit.Newest().Release, l.plainInstall},
		{"remove, and nothing is left", l.gone},
		{"install " + oldest + ", with awkward answers", l.awkwardInstall},
		{"check", l.checked},
		{"the owner changes the title", l.titleChanged},
		{"the owner changes the password", l.passwordChanged},
		{"the owner uploads something", l.uploads},
		{"a program is planted", l.planted},
		{"backup", l.backedUp},
	}
	for i := len(l.kit.Releases) - 2; i >= 0; i-- {
		to := l.kit.Releases[i].Release
		if i == len(l.kit.Releases)-2 {
			out = append(out, act{"update to " + to + " fails, and is put back",
				func(ctx context.Context) (string, error) { return l.failedUpdate(ctx, to) }})
		}
		out = append(out, act{"update to " + to, func(ctx context.Context) (string, error) { return l.updated(ctx, to) }})
	}
	return append(out,
		act{"restore what was backed up", l.restored},
		act{"copy", l.copied},
		act{"move", l.moved},
		act{"renew the password", l.renewed},
		act{"enter", l.entered},
		act{"forget and adopt", l.adopted},
		act{"remove, and nothing is left", l.gone},
	)
}

// The titles that sites get.
const (
	plainTitle   = "Notes from the quay"
	awkwardTitle = `Tom's "lock" & <more> $5 é`
)

func (l *life) plainInstall(ctx context.Context) (string, error) {
	var err error
	if l.begin, err = l.snapshot(); err != nil {
		return "", err
	}
	return l.install(ctx, l.kit.Newest().Release, answer.Given{"title": plainTitle})
}

func (l *life) awkwardInstall(ctx context.Context) (string, error) {
	given := answer.Given{"title": awkwardTitle}
	if l.kit.Uses(answer.Subtitle) {
		given[answer.Subtitle] = "${HOME}; # <b>"
	}
	if !l.kit.AccountElsewhere() {
		given["admin.password"] = `Kran "ich" & 'Tee' $1 \ é-74`
	}
	for id, limit := range l.kit.Limits {
		if given[id] != "" {
			given[id] = within(limit, given[id])
		}
	}
	return l.install(ctx, l.kit.Releases[len(l.kit.Releases)-1].Release, given)
}

// within is as much of an awkward answer as an app bears.
func within(limit kit.Limit, value string) string {
	plain := strings.Map(func(r rune) rune {
		if r > '~' {
			return -1
		}
		return r
	}, value)
	for _, text := range []string{value, plain, "Kranich-Teekanne-74"} {
		if limit.Fits(text) {
			return text
		}
	}
	return ""
}

// install installs a release while a stranger asks for its pages all the while.
func (l *life) install(ctx context.Context, release string, given answer.Given) (string, error) {
	given[answer.AdminEmail] = mailbox + "@" + domain
	given[answer.Licence] = "accept"
	if l.kit.AccountElsewhere() {
		given[answer.AdminName], given[answer.AdminPassword] = mailbox, mailboxPassword
	}
	for id, text := range l.kit.Try.Answers {
		given[id] = l.try.Replace(text)
	}
	p, err := l.Planner.Plan(ctx, plan.Request{App: l.App, At: domain + "/site", Release: release, Answers: given})
	if err != nil {
		return "", err
	}
	stranger := l.stranger(ctx, p.Site.Place.URL)
	done, err := install.Install(ctx, l.Desk, p)
	said, seen := stranger.end()
	if err := errors.Join(err, seen); err != nil {
		return said, err
	}
	l.site, l.mine = done.Site, nil
	for _, w := range done.Warnings {
		said += "; " + w
	}
	return said, l.right(ctx)
}

// right checks the site. What only the web server can mend is no fault of the kit's
// where the server does not obey .htaccess.
func (l *life) right(ctx context.Context) error {
	x, err := l.Book.Find(ctx, l.site.Address)
	if err != nil {
		return err
	}
	l.site = x
	e, err := l.Examiner.Check(ctx, x)
	if err != nil {
		return err
	}
	var wrong []string
	for _, c := range e.Checks {
		if !c.OK && c.Name != "updates" && (!check.IsExposure(c.Name) || l.ground.Web != "nginx") {
			wrong = append(wrong, c.Name+": "+c.Detail)
		}
	}
	return wrongly(wrong)
}

func wrongly(wrong []string) error {
	if len(wrong) == 0 {
		return nil
	}
	return errors.New(strings.Join(wrong, "; "))
}

func (l *life) checked(ctx context.Context) (string, error) {
	e, err := l.Examiner.Check(ctx, l.site)
	if err != nil {
		return "", err
	}
	var notes []string
	for _, c := range e.Checks {
		if !c.OK {
			notes = append(notes, c.Name+": "+c.Detail)
		}
	}
	return strings.Join(notes, "; "), l.right(ctx)
}

func (l *life) backedUp(ctx context.Context) (string, error) {
	made, err := backup.Make(ctx, l.Desk, backup.Request{Site: l.site.Address})
	if err != nil {
		return "", err
	}
	l.backup = path.Base(made.File)
	return "", nil
}

// failedUpdate has an update's last migration fail: all is as it was.
func (l *life) failedUpdate(ctx context.Context, to string) (string, error) {
	before, err := l.kept()
	if err != nil {
		return "", err
	}
	l.failing = true
	_, err = update.To(ctx, l.Desk, update.Request{Site: l.site.Address, Release: to})
	l.failing = false
	if err == nil {
		return "", errors.New("a migration that fails did not stop the update")
	}
	if f := fault.Of(err); !strings.Contains(f.Where, nowhere) || l.Keep {
		return "", err // it failed before
	}
	after, err := l.kept()
	if err != nil {
		return "", err
	}
	return "", errors.Join(unlike(before, after), l.right(ctx))
}

// nowhere is a page that no app has.
const nowhere = "tivset-nowhere"

// known is told to the catalogue: the releases that there are, and a migration that
// fails where one is to.
func (w *world) known(k *kit.Kit) {
	w.Archives.Known(k)
	if w.failing {
		k.Update.Steps = append(slices.Clone(k.Update.Steps), kit.Step{Request: &kit.Request{Get: nowhere,
			Expect: kit.Expect{Text: "what is nowhere"}}})
	}
}

// kept is the account without what apps write when somebody looks at them: where the
// site's kit says that it writes, and its database's file.
func (l *life) kept() (string, error) {
	all, err := l.snapshot()
	var out []string
	for line := range strings.SplitSeq(all, "\n") {
		_, name, _ := strings.Cut(line, " /")
		name, _, _ = strings.Cut(name, " ")
		below, inSite := strings.CutPrefix(name, l.site.Folder+"/")
		written := inSite && archive.Skipped(below, l.kit.Place.Writes())
		if !written && !strings.HasPrefix(name, ".tivset") && !strings.HasSuffix(name, ".sqlite") {
			out = append(out, line)
		}
	}
	return strings.Join(out, "\n"), err
}

func (l *life) updated(ctx context.Context, to string) (string, error) {
	done, err := update.To(ctx, l.Desk, update.Request{Site: l.site.Address, Release: to})
	if err != nil {
		return "", err
	}
	if done.Site.Release != to {
		return "", fmt.Errorf("it came to %s", done.Site.Release)
	}
	return "", errors.Join(l.right(ctx), l.stays())
}

func (l *life) restored(ctx context.Context) (string, error) {
	was := l.kit.Releases[len(l.kit.Releases)-1].Release
	_, err := restore.Restore(ctx, l.Desk, restore.Request{Site: l.site.Address, From: l.backup, NoBackup: true})
	if err := errors.Join(err, l.right(ctx), l.stays()); err != nil {
		return "", err
	}
	if l.site.Release != was {
		return "", fmt.Errorf("it is %s, and the backup was of %s", l.site.Release, was)
	}
	return "", nil
}

func (l *life) carried(ctx context.Context, at string, move bool) (ledger.Site, error) {
	p, err := place.Look(ctx, l.Desk, place.Request{Site: l.site.Address, At: domain + at, Move: move})
	if err != nil {
		return ledger.Site{}, err
	}
	defer p.Close()
	done, err := place.Carry(ctx, l.Desk, p)
	if err != nil {
		return ledger.Site{}, err
	}
	return done.Site, nil
}

func (l *life) copied(ctx context.Context) (string, error) {
	original := l.site
	x, err := l.carried(ctx, "/copy", false)
	if err != nil {
		return "", err
	}
	l.site = x
	err = errors.Join(l.right(ctx), l.stays(), l.taken(ctx))
	l.site = original
	return "", errors.Join(err, l.right(ctx))
}

func (l *life) moved(ctx context.Context) (string, error) {
	x, err := l.carried(ctx, "/moved", true)
	if err != nil {
		return "", err
	}
	l.site = x
	return "", errors.Join(l.right(ctx), l.stays())
}

func (l *life) renewed(ctx context.Context) (string, error) {
	if !l.kit.RenewsPassword() {
		return "", errSkip
	}
	_, err := renew.Renew(ctx, l.Desk, l.site.Address)
	if err != nil {
		return "", err
	}
	return "", l.right(ctx)
}

// entered hands a session over to a browser, which is signed in then.
func (l *life) entered(ctx context.Context) (string, error) {
	e, err := l.Sites.Enter(ctx, l.site.Address)
	if err != nil {
		return "", err
	}
	browser := l.newcomer()
	browser.Agent = "A browser/1.0"
	address, values, err := e.Hand(ctx, browser.Agent)
	if errors.Is(err, sites.ErrByHand) {
		return "the site runs no page that could hand a session over", e.Close()
	}
	if err == nil {
		err = l.signedIn(ctx, browser, address, values)
	}
	return "", errors.Join(err, e.Close())
}

// signedIn sees that a browser that took a session over is signed in.
func (l *life) signedIn(ctx context.Context, browser *web.Visitor, address string, values url.Values) error {
	if _, err := browser.Post(ctx, address, values); err != nil {
		return err
	}
	s, err := l.Book.From(l.site)
	if err != nil {
		return err
	}
	return l.with(ctx, s, func(in *hosting.Account) error {
		run, err := s.Runner(in, s.Place.Folder, s.Place.URL, l.Now())
		if err != nil {
			return err
		}
		run.Visitor = browser
		return run.Request(ctx, s.Kit.Check.SignIn.Then)
	})
}

// adopted forgets the site and takes charge of it as of one that somebody else made.
func (l *life) adopted(ctx context.Context) (string, error) {
	if l.kit.Known == nil {
		return "", errSkip
	}
	was := l.site
	c, err := l.Book.Reveal(ctx, was.Address)
	if err != nil {
		return "", err
	}
	if err := l.Book.Ledger.DropSite(ctx, was.Address); err != nil {
		return "", err
	}
	_, err = adopt.Adopt(ctx, l.Desk, adopt.Request{At: was.URL, Answers: answer.Given{answer.AdminName: was.Admin.Name,
		answer.AdminEmail: was.Admin.Email, answer.AdminPassword: c.Password.Reveal()}})
	if err != nil {
		return "", err
	}
	found, err := l.Book.Find(ctx, was.Address)
	if err != nil {
		return "", err
	}
	err = l.right(ctx)
	if was.Database != nil && (found.Database == nil || found.Database.Name != was.Database.Name) {
		err = errors.Join(err, errors.New("another database was found than the site's"))
	}
	// It is removed as what it was: what came with it goes with it.
	return "", errors.Join(err, l.Book.Ledger.PutSite(ctx, was))
}

// taken removes the site.
func (l *life) taken(ctx context.Context) error {
	p, err := remove.Look(ctx, l.Desk, remove.Request{Site: l.site.Address, NoBackup: true, WithAdded: true})
	if err != nil {
		return err
	}
	defer p.Close()
	_, err = remove.Remove(ctx, l.Desk, p)
	return err
}

// gone removes the site: the account is as it began.
func (l *life) gone(ctx context.Context) (string, error) {
	if err := l.taken(ctx); err != nil {
		return "", err
	}
	after, err := l.snapshot()
	if err != nil {
		return "", err
	}
	return "", unlike(l.begin, demo.ButBackups(after))
}

// failed lists what is wrong in an examination, by the names of its checks.
func failed(e check.Examined) map[string]string {
	out := map[string]string{}
	for _, c := range e.Checks {
		if !c.OK {
			out[c.Name] = c.Detail
		}
	}
	return out
}
