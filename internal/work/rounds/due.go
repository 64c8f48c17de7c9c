package rounds

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"tivset/internal/answer/care"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/step"
	"tivset/internal/work/backup"
	"tivset/internal/work/rehearse"
	"tivset/internal/work/update"
)

func (o *round) updateDue(x ledger.Site) string {
	if x.Due == "" || !o.inHours(x, false) {
		return ""
	}
	return "the update to " + x.Due
}

// update brings a site to the release that its care takes by itself, after a rehearsal
// where the care wants one.
func (o *round) update(ctx context.Context, x ledger.Site) error {
	key := "update " + x.Due
	if x.Care.RehearsesLevel(o.level(x)) {
		went, err := o.rehearse(ctx, x)
		if err != nil || !went {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err != nil {
				o.troubled(x, key, err)
			}
			return nil
		}
		if now, err := o.desk.Book.Find(ctx, x.Address); err != nil || now.Due != x.Due {
			return nil //nolint:nilerr // the owner took it out, updated it or decided otherwise meanwhile
		}
	}
	done, err := update.Once(ctx, o.desk, x)
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		f := *fault.Of(err)
		f.What = notMade(x, f.What)
		o.troubled(x, key, &f)
	default:
		o.say(Line{Site: done.Site, What: Updated, Detail: fmt.Sprintf("from %s to %s, and checked", done.From,
			done.Site.Release), of: care.Change})
		return o.over(ctx, x, func(key string) bool { return strings.HasPrefix(key, "update ") })
	}
	return nil
}

// kit looks up a kit once a round: sites are many, apps few. It is nil where there is none.
func (o *round) kit(app string) *kit.Kit {
	o.one.Lock()
	defer o.one.Unlock()
	k, known := o.kits[app]
	if !known {
		if e, err := o.desk.Book.Catalogue.Find(app); err == nil {
			k = e.Kit
		}
		o.kits[app] = k
	}
	return k
}

// level is how far the release that is due goes.
func (o *round) level(x ledger.Site) string {
	k, level := o.kit(x.App), ""
	if k == nil {
		return ""
	}
	for _, b := range k.Between(x.Release, x.Due) {
		if !(care.Care{Accepts: level}).AcceptsLevel(b.Level) {
			level = b.Level
		}
	}
	return level
}

// notMade words an update that was not made.
func notMade(x ledger.Site, why string) string {
	return fmt.Sprintf("the update to %s was not made, and %s stays; %s", x.Due, x.Release, why)
}

// rehearse says whether the update may be made. A release that failed on the copy is
// noted, and not tried again as long as it is the same.
func (o *round) rehearse(ctx context.Context, x ledger.Site) (went bool, err error) {
	r := update.Request{Site: x.Address, Release: x.Due}
	came, err := rehearse.Rehearse(ctx, o.desk, r)
	if err != nil || came.OK {
		return err == nil, err
	}
	p, err := update.Look(ctx, o.desk, r)
	if err != nil {
		return false, err
	}
	defer p.Close()
	problem := "in a rehearsal: " + strings.Join(came.Problems, "; ")
	o.say(
		Line{
			Site:   x,
			What:   Trouble,
			Detail: notMade(x, "it failed "+problem),
			Remedy: "This release is not tried again by itself. Wait for one that fixes this, or tell the kit's author.",
			of:     care.Trouble,
			key:    "update " + x.Due,
		},
	)
	return false, p.Failed(ctx, o.desk, problem)
}

// backupDue has a backup made as often as the care wants one.
func (o *round) backupDue(x ledger.Site) string {
	often, _ := x.Care.Every()
	age := o.age(x.LastBackupAt)
	if often == 0 || age < often*9/10 || often >= 24*time.Hour && !o.inHours(x, age > 2*often) {
		return ""
	}
	return "a backup"
}

func (o *round) backup(ctx context.Context, x ledger.Site) error {
	often, kept := x.Care.Every()
	if made, err := o.madeElsewhere(ctx, x, often); err != nil || made {
		if err != nil {
			o.troubled(x, "backup", err)
		}
		return ctx.Err()
	}
	made, err := backup.Make(ctx, o.desk, backup.Request{Site: x.Address, Keep: kept, Care: true})
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		f := *fault.Of(err)
		f.What = "no backup could be made: " + f.What
		o.troubled(x, "backup", &f)
		return nil
	}
	detail := humanize.Bytes(uint64(made.Packed))
	if n := len(made.Dropped); n > 0 {
		detail += fmt.Sprintf(", %d older dropped", n)
	}
	o.say(Line{Site: x, What: BackedUp, Detail: detail, of: care.Routine})
	return o.over(ctx, x, func(key string) bool { return key == "backup" })
}

// madeElsewhere says whether another machine has made the backup that is due: both work on
// one account, and each has its own record.
func (o *round) madeElsewhere(ctx context.Context, x ledger.Site, often time.Duration) (bool, error) {
	all, err := backup.List(ctx, o.desk, x.Address, x.Account, "")
	all = slices.DeleteFunc(all, func(l backup.Listed) bool { return l.Why == step.BeforeUndo }) // of the data alone
	if err != nil || len(all) == 0 || o.desk.Now().Sub(all[0].MadeAt) >= often*9/10 {
		return false, err
	}
	now, err := o.desk.Book.Ledger.Site(ctx, x.Address)
	if err == nil {
		now.LastBackupAt = &all[0].MadeAt
		err = o.desk.Book.Ledger.KeepSite(ctx, now)
	}
	return true, err
}

// reminders tells of what no check finds, once a week: a release that gets no more fixes.
func (o *round) reminders(ctx context.Context, x ledger.Site) error {
	if o.request.Dry {
		return nil
	}
	k := o.kit(x.App)
	if k == nil {
		return nil
	}
	of := k.Find(x.Release)
	if of == nil || of.Fixes == "" {
		return nil
	}
	until, err := time.Parse(time.DateOnly, of.Fixes)
	if err != nil || o.desk.Now().Before(until) {
		return nil //nolint:nilerr // nobody knows until when
	}
	l := Line{Site: x, What: Trouble, Detail: fmt.Sprintf("release %s has got no fixes since %s", x.Release, of.Fixes),
		Remedy: "Bring it to a newer one: " + fault.Call("update", x.Address), of: care.Trouble, key: "support"}
	// whether or not somebody is mailed: it is no news every hour
	if l.noted, err = o.note(ctx, x.Address, l.notes(), o.desk.Now().UTC()); err == nil && l.noted {
		o.say(l)
	}
	return err
}
