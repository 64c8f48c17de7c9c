package site

import (
	"context"
	"fmt"
	"io/fs"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"tivset/internal/app/kit"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
)

// What the checks of a site warn of before it is too late.
const (
	certificateDays = 14       // a certificate that ends within these
	leastSpace      = 50 << 20 // bytes of space left
	overdueAfter    = 7        // days after which an update should have been made
)

// looking is the examination of one site: beyond what an install checks, all
// that goes wrong with the years.
type looking struct {
	*env
	site  ledger.Site
	out   []Checked
	found Compared
}

func (l *looking) add(name string, ok bool, format string, args ...any) {
	l.out = append(l.out, Checked{name, ok, fmt.Sprintf(format, args...)})
}

// ownFiles compares the app's files with the release's checksums. A program
// that was added is the first sign of a break-in; other files may be the
// owner's.
func (l *looking) ownFiles(ctx context.Context) error {
	of, err := l.releaseOf(ctx, l.plan)
	if err != nil {
		l.add("files", true, "all %d entries are there; not compared, for the archive of %s cannot be had", len(l.site.Entries), l.site.Release)
		return nil
	}
	if l.found, err = l.compare(ctx, l.plan, l.site.Entries, of, true); err != nil {
		return err
	}
	edited := func(name string) bool {
		return slices.ContainsFunc(l.plan.kit.Config, func(c kit.Config) bool { return c.Path == name })
	}
	l.found.Changed = slices.DeleteFunc(l.found.Changed, edited)
	if wrong := counted("changed", l.found.Changed) + counted("missing", l.found.Missing); wrong != "" {
		l.add("files", false, "not as the release has them: %s. To have the release's own back: tivset check %s --repair", strings.TrimPrefix(wrong, "; "), l.site.Address)
	} else {
		l.add("files", true, "%d files are as release %s has them", len(of.sums), l.site.Release)
	}
	programs := slices.DeleteFunc(slices.Clone(l.found.Added), func(name string) bool { return !runs(name) })
	switch {
	case len(programs) > 0:
		l.add("added files", false, "programs that are not the app's%s. Look at them: they may be a stranger's", counted("", programs))
	case len(l.found.Added) > 0:
		l.add("added files", true, "no programs%s", counted("; added by hand", l.found.Added))
	default:
		l.add("added files", true, "none among the app's")
	}
	return nil
}

// runs says whether a web server may run a file, or be told by it what to run.
func runs(name string) bool {
	base := strings.ToLower(path.Base(name))
	return base == ".htaccess" || base == ".user.ini" || slices.Contains([]string{".php", ".phtml", ".phar", ".php5", ".php7", ".php8", ".inc", ".cgi", ".pl", ".py", ".sh", ".page"}, path.Ext(base))
}

// counted lists some names after a word.
func counted(what string, names []string) string {
	const most = 5
	if len(names) == 0 {
		return ""
	}
	text := "; " + what + " " + strings.Join(names[:min(len(names), most)], ", ")
	if what == "" {
		text = ": " + strings.Join(names[:min(len(names), most)], ", ")
	}
	if len(names) > most {
		text += fmt.Sprintf(" and %d more", len(names)-most)
	}
	return text
}

// permissions sees that nobody else on the machine can write the site's files
// or read its configuration.
func (l *looking) permissions(ctx context.Context) error {
	var open []string
	for _, name := range l.site.Entries {
		there := map[string]files.Found{}
		if err := l.entry(ctx, l.plan, name, nil, there); err != nil {
			return err
		}
		for name, f := range there {
			if f.Mode&fs.ModeSymlink == 0 && f.Mode.Perm()&0o002 != 0 {
				open = append(open, name)
			}
		}
	}
	for _, c := range l.plan.kit.Config {
		info, err := l.files.Stat(ctx, path.Join(l.site.Folder, c.Path))
		if err == nil && len(c.Constant) == 0 && info.Mode.Perm()&0o004 != 0 && fileMode(c.Mode)&0o004 == 0 {
			open = append(open, c.Path+" (to read)")
		}
	}
	slices.Sort(open)
	if len(open) > 0 {
		l.add("permissions", false, "open to everybody on the machine%s", counted("", open))
		return nil
	}
	l.add("permissions", true, "nobody else can write the files")
	return nil
}

func (l *looking) certificate(ctx context.Context) {
	u, err := url.Parse(l.site.URL)
	if err != nil || u.Scheme != "https" {
		return
	}
	d := &l.plan.place.Domain
	until, err := l.Certified(ctx, d.Name, tlsAddress(d, u))
	if err != nil {
		l.add("certificate", false, "does not verify: %v", err)
		return
	}
	days := int(until.Sub(l.Now()) / (24 * time.Hour))
	l.add("certificate", days >= certificateDays, "good for another %d days", days)
}

func (l *looking) space(ctx context.Context) {
	teller, ok := l.files.(files.SpaceTeller)
	if !ok {
		return
	}
	free, err := teller.Free(ctx)
	if err != nil {
		return // an account that does not tell is asked nothing
	}
	l.add("space", free >= max(leastSpace, l.site.Bytes), "%s left", humanize.Bytes(uint64(free)))
}

// timer sees that the account's crontab has the site's lines.
func (l *looking) timer(ctx context.Context) {
	commander, ok := l.files.(files.Commander)
	if len(l.plan.kit.Timers) == 0 || !ok || l.account.Runtime.Crontab == "" {
		return
	}
	text, err := readCrontab(ctx, commander, l.account.Runtime.Crontab)
	switch {
	case err != nil:
		l.add("timer", false, "%v", err)
	case !strings.Contains(text, beginMark(l.site.Address)):
		l.add("timer", false, "is not in the account's crontab")
	default:
		l.add("timer", true, "is in the account's crontab")
	}
}

// leftovers sees that what only the set-up needs is not there.
func (l *looking) leftovers(ctx context.Context) error {
	var left []string
	for _, s := range l.plan.kit.Setup {
		for _, name := range s.Remove {
			there, err := files.Exists(ctx, l.files, path.Join(l.site.Folder, path.Clean(name)))
			if err != nil {
				return err
			}
			if there && holds(s.When, l.plan.answers) {
				left = append(left, name)
			}
		}
	}
	if len(left) > 0 {
		l.add("leftovers", false, "only the set-up needs%s. Take it away: a stranger could use it", counted("", left))
		return nil
	}
	l.add("leftovers", true, "nothing of the set-up is there")
	return nil
}

// updates says what is newer, and whether it should have been made by now.
func (l *looking) updates() {
	x := l.site
	l.fillIn(&x)
	switch {
	case x.Newer == "":
		l.add("updates", true, "%s is the newest release", x.Release)
	case x.Due == "":
		l.add("updates", true, "%s is there (%s), which this site's care does not take by itself", x.Newer, x.NewerLevel)
	default:
		of := l.plan.kit.Find(x.Due)
		at, err := time.Parse(time.DateOnly, of.Date)
		days := int(l.Now().Sub(at) / (24 * time.Hour))
		l.add("updates", err == nil && days <= overdueAfter, "%s of %s is due. Make it with: tivset update %s", x.Due, of.Date, x.Address)
	}
}
