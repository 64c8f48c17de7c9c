package check

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"

	"tivset/internal/app/release"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

// What the checks of a site warn of before it is too late.
const (
	certificateDays = 14       // a certificate that ends within these
	leastSpace      = 50 << 20 // bytes of space left
	overdueAfter    = 7        // days after which an update should have been made
)

// wrongSeldom is how seldom a wrong password is tried: more often, that would
// look like an attack, and lock the admin out.
const wrongSeldom = 12 * time.Hour

// Lately says whether a site was looked at so short a time ago that no wrong
// password is to be tried.
func Lately(at *time.Time, now time.Time) bool { return at != nil && now.Sub(*at) < wrongSeldom }

// looking is the examination of one site: beyond what an install checks, all
// that goes wrong with the years.
type looking struct {
	*Examiner
	site   *site.Site
	in     *hosting.Account
	record *ledger.Site
	others files.Others

	there  map[string]files.Found // what is in its folder, by names below it
	beside []string               // folders that are not looked into
	out    []Checked
	found  release.Compared
}

func (l *looking) add(name string, ok bool, format string, args ...any) {
	l.out = append(l.out, Checked{Name: name, OK: ok, Detail: fmt.Sprintf(format, args...)})
}

// all runs every check.
func (l *looking) all(ctx context.Context) error {
	if gone, err := IsGone(ctx, l.in, l.record); err != nil {
		return err
	} else if gone {
		l.add("files", false, "all in %s is gone. To have it back: %s. When it is gone for good: %s", l.record.Folder,
			fault.Call("restore", l.record.Address), fault.Call("forget", l.record.Address))
		return nil
	}
	if err := l.bothSides(ctx); err != nil {
		return err
	}
	l.certificate(ctx)
	l.space(ctx)
	l.timer(ctx)
	l.updates(ctx)
	return nil
}

// bothSides looks at the files and at the pages at the same time; what it notes is
// in the same order whichever is faster.
func (l *looking) bothSides(ctx context.Context) error {
	inside, record := *l, *l.record
	inside.record = &record // the visit reads the other one anew
	var own []Checked
	group, within := errgroup.WithContext(ctx)
	group.Go(func() error {
		if err := inside.ownFiles(within); err != nil {
			return err
		}
		own, inside.out = inside.out, nil
		if err := inside.permissions(within); err != nil {
			return err
		}
		if err := inside.leftovers(within); err != nil {
			return err
		}
		return SizesOf(within, l.in).Measure(within, l.in, &record, l.others)
	})
	group.Go(func() error { return l.asVisitor(within) })
	if err := group.Wait(); err != nil {
		return err
	}
	l.out = slices.Concat(own, l.out, inside.out)
	l.there, l.beside, l.found = inside.there, inside.beside, inside.found
	l.record.Files, l.record.Bytes, l.record.Suspects = record.Files, record.Bytes, record.Suspects
	l.record.DatabaseBytes, l.record.Gone = record.DatabaseBytes, record.Gone
	return nil
}

// asVisitor checks what visitors, the admin and strangers see.
func (l *looking) asVisitor(ctx context.Context) error {
	v := &Visit{Site: l.site, In: l.in, Maker: l.Maker, Now: l.Now, Once: true}
	if err := v.Open(); err != nil {
		return err
	}
	defer v.Close()
	if err := l.asItIs(ctx, v); err != nil {
		return err
	}
	all := l.inOrder(v.Checks())
	var hidden Hidden
	group, within := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		hidden, err = v.Hidden(within)
		return err
	})
	came := v.Together(ctx, all)
	if err := group.Wait(); err != nil {
		return err
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	for i, one := range all {
		if err := came[i].Err; err != nil {
			l.add(one.Name, false, "%s", Worded(err))
			continue
		}
		if one.Name == FrontPage {
			one.Detail += fmt.Sprintf(", in %.2f s", came[i].Took.Seconds())
		}
		l.add(one.Name, true, "%s", one.Detail)
	}
	l.out = append(l.out, hidden.Checks(*l.record)...)
	return nil
}

// asItIs reads what the site says of itself, and brings the record up to date.
func (l *looking) asItIs(ctx context.Context, v *Visit) error {
	before := *l.record
	now, err := v.Read(ctx)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	site.Note(l.record, now)
	switch {
	case err != nil:
		l.add(
			"as it is",
			false,
			"cannot be told: %s. What was known stays recorded; if the app keeps it elsewhere by now, tell "+
				"the kit's author",
			strings.ReplaceAll(err.Error(), "\n", "; "),
		)
	case len(now) > 0:
		l.add("as it is", true, "%s", changes(before, *l.record))
	}
	return nil
}

// changes words what the owner changed since the site was last read.
func changes(before, now ledger.Site) string {
	var out []string
	for _, c := range []struct{ what, before, now string }{{"title", before.Title, now.Title},
		{"language", before.Language, now.Language}, {"admin", before.Admin.Name, now.Admin.Name},
		{"admin's e-mail address", before.Admin.Email, now.Admin.Email}} {
		if c.before != c.now {
			out = append(out, fmt.Sprintf("the %s is “%s” now, and was “%s”", c.what, c.now, c.before))
		}
	}
	if len(out) == 0 {
		return "“" + now.Title + "”, admin " + now.Admin.Name
	}
	return strings.Join(out, "; ")
}

// inOrder has a wrong password tried seldom, and then before the right one,
// which makes apps forget it.
func (l *looking) inOrder(all []Check) []Check {
	wrong := slices.IndexFunc(all, func(c Check) bool { return c.Name == WrongPassword })
	one := all[wrong]
	all = slices.Delete(all, wrong, wrong+1)
	if Lately(l.record.CheckedAt, l.Now()) {
		return all
	}
	return slices.Insert(all, 1, one) // behind the front page
}

// walk finds out what is in the site's folder and nobody else's: what is the
// site's, and what stands beside that. At a document root folders that are not
// the site's are the owner's own.
func (l *looking) walk(ctx context.Context) error {
	l.there = map[string]files.Found{}
	folder := l.site.FolderOf(l.in.Files, l.record.Entries, l.others)
	names := slices.Clone(l.record.Entries)
	inside, err := l.in.Files.List(ctx, l.record.Folder)
	if err != nil {
		return err
	}
	root := slices.ContainsFunc(l.in.Domains, func(d account.Domain) bool { return d.Folder == l.record.Folder })
	for _, i := range inside {
		if slices.Contains(names, i.Name) {
			continue
		}
		if full := path.Join(l.record.Folder, i.Name); l.others.Has(full) || l.others.Below(full) {
			continue
		}
		if i.IsDir() && root {
			l.beside = append(l.beside, i.Name+"/")
			continue
		}
		names = append(names, i.Name)
	}
	for _, name := range names {
		if err := folder.Entry(ctx, name, l.there); err != nil {
			return err
		}
	}
	if !root { // beside which others' folders may lie, that nobody looked into
		l.measure()
	}
	return nil
}

// measure notes what the site takes, as it was just seen.
func (l *looking) measure() {
	l.record.Files, l.record.Bytes = 0, 0
	for _, found := range l.there {
		if found.Mode.IsRegular() {
			l.record.Files++
			l.record.Bytes += found.Size
		}
	}
}

// ownFiles compares the app's files with the release's checksums, and finds
// programs that are not part of the app for: the first sign of a break-in. Other files may
// be the owner's.
func (l *looking) ownFiles(ctx context.Context) error {
	if err := l.walk(ctx); err != nil {
		return err
	}
	of, err := l.site.Content(ctx, l.Archives)
	if err != nil {
		l.add("files", true, "all %d entries are there; not compared, for the archive of %s cannot be had",
			len(l.record.Entries), l.record.Release)
		return nil
	}
	folder := l.site.FolderOf(l.in.Files, l.record.Entries, l.others)
	folder.There = l.there
	if l.found, err = release.Compare(ctx, folder, of, true, func(int64, int64, string) {}); err != nil {
		return err
	}
	l.found.Changed = slices.DeleteFunc(l.found.Changed, l.site.Edits)
	if l.found.Changed, err = l.notMine(ctx, l.found.Changed); err != nil {
		return err
	}
	if wrong := differing(l.found.Changed, "changed") + differing(l.found.Missing, "missing"); wrong != "" {
		l.add("files", false, "differ from the release: %s. To have the release's own back: %s",
			strings.TrimPrefix(wrong, ", "),
			fault.Call("check", l.record.Address, "--repair"))
	} else {
		l.add("files", true, "%d files are as release %s has them", len(of.Sums), l.record.Release)
	}
	return l.added(ctx, of)
}

// added judges what is there and not the release's.
func (l *looking) added(ctx context.Context, of release.Content) error {
	programs, not, err := l.strangers(ctx, of)
	if err != nil {
		return err
	}
	l.found.Programs = append(l.found.Programs, programs...)
	l.returned()
	if len(programs) > 0 {
		l.add("added files", false,
			"scripts that are not part of the app%s. An intruder may have put them there: look at them. If they "+
				"are yours: %s", counted("", programs), fault.Call("check", l.record.Address, "--mine", programs[0]))
		return nil
	}
	detail := "none among the app's"
	if len(l.found.Added) > 0 {
		detail = "no programs"
		if len(l.record.Mine) > 0 {
			detail = "no programs but those that are yours"
		}
		detail += counted("added by hand", l.found.Added)
	}
	if not > 0 {
		detail += fmt.Sprintf("; %d other files were judged by their names alone", not)
	}
	detail += counted("not looked into, for they are not the site's", l.beside)
	l.add("added files", true, "%s", detail)
	return nil
}

// permissions sees that nobody else on the machine can write the site's files
// or read its configuration.
func (l *looking) permissions(context.Context) error {
	loose, written := l.site.Loose(l.there)
	names := func(list []site.InsecureMode) (out []string) {
		for _, one := range list {
			out = append(out, strings.TrimPrefix(one.Name, l.record.Folder+"/"))
		}
		return out
	}
	if len(loose) > 0 {
		l.add("permissions", false, "open to everybody on the machine%s. To close them: %s", counted("", names(loose)),
			fault.Call("check", l.record.Address, "--repair"))
		return nil
	}
	l.add("permissions", true, "nobody else can write the app's files%s",
		counted("everybody on the machine can where the app writes", names(written)))
	return nil
}

func (l *looking) certificate(ctx context.Context) {
	if !strings.HasPrefix(l.record.URL, "https://") {
		return
	}
	until, err := l.in.Certified(ctx, l.site.At.Domain)
	if err != nil {
		l.add("certificate", false, "does not verify: %v", err)
		return
	}
	until = until.UTC()
	l.record.CertificateUntil = &until
	days := int(until.Sub(l.Now()) / (24 * time.Hour))
	l.add("certificate", days >= certificateDays, "good for another %d days", days)
}

func (l *looking) space(ctx context.Context) {
	free, told := l.in.Free(ctx)
	if !told {
		return // an account that does not tell is asked nothing
	}
	l.add("space", free >= max(leastSpace, l.record.Bytes), "%s left", humanize.Bytes(uint64(free)))
}

// timer sees that the account's crontab has the site's lines.
func (l *looking) timer(ctx context.Context) {
	if _, ok := l.in.Programs(); len(l.site.Kit.Timers) == 0 || !ok || !l.in.HasCrontab() {
		return
	}
	text, err := l.in.Crontab(ctx)
	switch {
	case err != nil:
		l.add("timer", false, "%v", err)
	case !strings.Contains(text, hosting.BeginMark(l.record.Address)):
		l.add("timer", false, "is not in the account's crontab")
	default:
		l.add("timer", true, "is in the account's crontab")
	}
}

// leftovers sees that what only the set-up needs is not there.
func (l *looking) leftovers(ctx context.Context) error {
	var left []string
	for _, name := range l.site.SetUpOnly() {
		there, err := files.Exists(ctx, l.in.Files, path.Join(l.record.Folder, path.Clean(name)))
		if err != nil {
			return err
		}
		if there {
			left = append(left, name)
		}
	}
	if len(left) > 0 {
		l.add("leftovers", false, "only the set-up needs%s; a stranger could use it. To take it away: %s",
			counted("", left), fault.Call("check", l.record.Address, "--repair"))
		return nil
	}
	l.add("leftovers", true, "nothing of the set-up is there")
	return nil
}

// updates says what is newer, and whether it should have been made by now.
func (l *looking) updates(ctx context.Context) {
	x := *l.record
	if err := l.Archives.LookUp(ctx, l.site.Kit.Kit); err != nil {
		l.add("updates", false, "whether there is something newer could not be looked up: %v", err)
		return
	}
	l.Book.FillIn(&x)
	later := site.Due(l.site.Kit.Kit, x, l.Now().AddDate(1, 0, 0))
	switch unseen := l.site.Kit.LookupErr; {
	case x.Newer == "" && unseen != nil:
		l.add("updates", true, "%s is the newest release that is known; whether there is a newer one could not be looked "+
			"up: %v", x.Release, unseen)
	case x.Newer == "":
		l.add("updates", true, "%s is the newest release", x.Release)
	case x.Due == "" && x.Tried != nil && x.Tried.Release == site.Due(l.site.Kit.Kit, x, l.Now()):
		l.add("updates", false, "%s failed here on %s and is not tried again by itself (%s). To try it: %s",
			x.Tried.Release, x.Tried.At.Format(time.DateOnly), x.Tried.Problem, fault.Call("update", x.Address))
	case x.Due == "" && x.Urgent:
		l.add("updates", false, "%s is there (%s, and fixes a security hole), which this site's care does not take by "+
			"itself. Make it with: %s", x.Newer, x.NewerLevel, fault.Call("update", x.Address))
	case x.Due == "" && later != "":
		l.add("updates", true, "%s is there; the site installs it by itself once it is %d days old", later, x.Care.Days())
	case x.Due == "":
		l.add("updates", true, "%s is there (%s), which this site's care does not take by itself", x.Newer, x.NewerLevel)
	default:
		of := l.site.Kit.Find(x.Due)
		at, err := time.Parse(time.DateOnly, of.Date)
		days := int(l.Now().Sub(at) / (24 * time.Hour))
		l.add("updates", err == nil && days <= overdueAfter+x.Care.Days() && !x.Urgent,
			"%s of %s is due%s. Make it with: %s", x.Due, of.Date,
			map[bool]string{true: " and fixes a security hole"}[x.Urgent], fault.Call("update", x.Address))
	}
}
