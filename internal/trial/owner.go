package trial

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"tivset/internal/app/config"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/work/update"
)

// titleChanged is an owner who gives the site another title in the app: it is known
// from then on.
func (l *life) titleChanged(ctx context.Context) (string, error) {
	if !l.kit.ReadsNow("title") || len(l.kit.Told("title")) == 0 && len(l.kit.Try.Title) == 0 {
		return "", errSkip
	}
	title := `The "new" quay's <title> & é`
	s, err := l.Book.From(l.site)
	if err != nil {
		return "", err
	}
	changed := *s
	changed.Face.Title = title
	if err := l.changed(ctx, s, &changed, l.kit.Try.Title); err != nil {
		return "", err
	}
	if err := l.right(ctx); err != nil {
		return "", err
	}
	x, err := l.Book.Find(ctx, l.site.Address)
	if err == nil && x.Title != title {
		err = fmt.Errorf("the site is recorded as %q", x.Title)
	}
	return "", err
}

// passwordChanged is an owner who changes the password in the app: what is stored is
// refused before anything is touched, until the new one is told.
func (l *life) passwordChanged(ctx context.Context) (string, error) {
	if !l.kit.RenewsPassword() {
		return "", errSkip
	}
	word := secret.Of("Wasserstand-Pegel-17-Ufer")
	s, err := l.Book.From(l.site)
	if err != nil {
		return "", err
	}
	if err := l.changed(ctx, s, s.With(map[string]secret.Text{site.AdminPassword: word}), l.kit.Renew); err != nil {
		return "", err
	}
	before, err := l.kept()
	if err != nil {
		return "", err
	}
	if len(l.kit.Releases) > 1 {
		p, err := update.Look(ctx, l.Desk, update.Request{Site: l.site.Address})
		if err == nil {
			return "", errors.Join(errors.New("an update did not notice that the password is another"), p.Close())
		}
		if fault.Of(err).Kind != fault.NeedsConfirmation {
			return "", err
		}
	}
	after, err := l.kept()
	if err != nil {
		return "", err
	}
	if err := unlike(before, after); err != nil {
		return "", err
	}
	if _, err := l.Sites.Learn(ctx, l.site.Address, "", word); err != nil {
		return "", err
	}
	return "", l.right(ctx)
}

const codeCache = 2100 * time.Millisecond // PHP manual, opcache.revalidate_freq

// changed does what an owner does in the app: the lines of its configuration that hold
// something else, or the kit's steps for it.
func (l *life) changed(ctx context.Context, before, after *site.Site, steps []kit.Step) error {
	was, err := before.Values(l.Now())
	if err != nil {
		return err
	}
	will, err := after.Values(l.Now())
	if err != nil {
		return err
	}
	for _, c := range l.kit.Config {
		if c.Template == "" {
			continue
		}
		template, err := fs.ReadFile(l.kit.Files(), path.Clean(c.Template))
		if err != nil {
			return err
		}
		full := l.full(c.Path)
		now, err := os.ReadFile(full)
		if err != nil {
			return err
		}
		format, err := config.For(c.Format)
		if err != nil {
			return err
		}
		text, err := config.Carry(format, string(template), string(now), was, will)
		if err != nil {
			return err
		}
		if text == string(now) {
			continue
		}
		if err := os.WriteFile(full, []byte(text), 0o640); err != nil {
			return err
		}
		// An owner is slower than PHP's code cache, which looks every two seconds.
		if c.Format == "php" {
			time.Sleep(codeCache)
		}
	}
	return l.with(ctx, after, func(in *hosting.Account) error {
		return after.CarryOut(ctx, in, after.Place.Folder, steps, l.Now())
	})
}

// with opens the account of a site.
func (l *life) with(ctx context.Context, s *site.Site, do func(*hosting.Account) error) error {
	in, err := l.Hosting.Open(ctx, s.In)
	if err != nil {
		return err
	}
	return errors.Join(do(in), in.Close())
}

func (l *life) full(name string) string {
	return filepath.Join(l.root, l.site.Folder, filepath.FromSlash(name))
}

// put has the site's user put a file there.
func (l *life) put(name, text string) error {
	full := l.full(name)
	err := errors.Join(os.MkdirAll(filepath.Dir(full), 0o755), os.WriteFile(full, []byte(text), 0o644))
	top, errTop := os.Stat(l.full(""))
	if err := errors.Join(err, errTop); err != nil {
		return err
	}
	return ownedAs(top, full)
}

// uploads puts something where the app has uploads.
func (l *life) uploads(context.Context) (string, error) {
	if len(l.kit.Place.Written) == 0 {
		return "", errSkip
	}
	name := path.Join(l.kit.Place.Written[0], "a-picture-of-mine.png")
	l.mine = append(l.mine, name)
	return "in " + l.kit.Place.Written[0], l.put(name, "a picture of mine")
}

// stays makes sure that what the owner put there is where the site is.
func (l *life) stays() error {
	for _, name := range l.mine {
		if text, err := os.ReadFile(l.full(name)); err != nil || string(text) != "a picture of mine" {
			return errors.Join(fmt.Errorf("%s is not there any more as it was", name), err)
		}
	}
	return nil
}

// planted puts a program among the app's: a check names it.
func (l *life) planted(ctx context.Context) (string, error) {
	const name = "planted-here.php"
	if err := l.put(name, "<?php echo 1;\n"); err != nil {
		return "", err
	}
	e, err := l.Examiner.Check(ctx, l.site)
	if err != nil {
		return "", err
	}
	if said := failed(e)["added files"]; !strings.Contains(said, name) {
		return "", fmt.Errorf("a program beside the app's was not noticed: %q", said)
	}
	return "", os.Remove(l.full(name))
}
