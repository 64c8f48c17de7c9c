package rounds

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"tivset/internal/answer/care"
	"tivset/internal/hosting/account"
	"tivset/internal/mail"
	"tivset/internal/records/ledger"
)

// letter is one mail: to one person, through one account's server.
type letter struct {
	by    *account.Account
	to    string
	lines []Line
}

// tell mails what concerns whom. A trouble that lasts is told again after a week, by whichever
// machine; what could not be sent counts as not told.
func (o *round) tell(ctx context.Context) {
	letters := map[string]*letter{}
	for _, l := range o.out.Lines {
		a, err := o.desk.Book.Home.Account(l.Site.Account)
		if err != nil || a.Mail == nil {
			continue
		}
		to := l.Site.Care.Told(l.of, l.Site.Admin.Email)
		if to == "" {
			continue
		}
		if l.of == care.Trouble && !l.noted {
			mine, err := o.note(ctx, l)
			if err != nil {
				o.out.Unsent = append(o.out.Unsent, err)
			}
			if !mine {
				continue
			}
		}
		key := a.Mail.Server + " " + to
		if letters[key] == nil {
			letters[key] = &letter{by: a, to: to}
		}
		letters[key].lines = append(letters[key].lines, l)
	}
	for _, key := range slices.Sorted(maps.Keys(letters)) {
		l := letters[key]
		err := o.desk.Mail(ctx, l.by, mail.Message{To: l.to, Subject: l.subject(), Text: l.text(o.desk.Now().Local(),
			o.desk.Who)})
		if err != nil {
			err = fmt.Errorf("the mail to %s could not be sent: %w", l.to, err)
			o.out.Unsent = append(o.out.Unsent, errors.Join(err, o.forget(context.WithoutCancel(ctx), l.lines)))
		}
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

// note notes that somebody is told of a trouble now; false where somebody was told lately.
func (o *round) note(ctx context.Context, l Line) (mine bool, err error) {
	wait := again
	for _, trouble := range l.notes() {
		noted, err := o.desk.Book.Ledger.Tell(ctx, ledger.Telling{Address: l.Site.Address, Trouble: trouble,
			At: o.desk.Now().UTC()}, wait)
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

// forget notes that nobody was told.
func (o *round) forget(ctx context.Context, lines []Line) (err error) {
	for _, l := range lines {
		if l.of == care.Trouble {
			err = errors.Join(err, o.desk.Book.Ledger.Untell(ctx, l.Site.Address, l.notes()...))
		}
	}
	return err
}

// subject says the worst of it.
func (l *letter) subject() string {
	sites, troubled := map[string]string{}, map[string]string{}
	for _, x := range l.lines {
		sites[x.Site.Address] = x.Site.Title
		if x.What == Trouble {
			troubled[x.Site.Address] = x.Site.Title
		}
	}
	one := func(of map[string]string) string {
		for _, title := range of {
			return title
		}
		return ""
	}
	switch {
	case len(troubled) == 1:
		return one(troubled) + " needs you"
	case len(troubled) > 1:
		return fmt.Sprintf("%d sites need you", len(troubled))
	case len(sites) == 1:
		return one(sites) + " was looked after"
	}
	return fmt.Sprintf("%d sites were looked after", len(sites))
}

// text says what needs somebody first, then what was done, by site.
func (l *letter) text(now time.Time, who string) string {
	var out strings.Builder
	fmt.Fprintf(&out, "The maintenance run of %s, by %s.\n", now.Format("2 January 2006, 15:04"), who)
	for _, part := range []struct {
		heading string
		of      func(Line) bool
	}{{"This needs you", func(x Line) bool { return x.What == Trouble }},
		{"This was done", func(x Line) bool { return x.What != Trouble }}} {
		last, begun := "", false
		for _, x := range l.lines {
			if !part.of(x) {
				continue
			}
			if !begun {
				fmt.Fprintf(&out, "\n%s\n", strings.ToUpper(part.heading))
				begun = true
			}
			if x.Site.Address != last {
				fmt.Fprintf(&out, "\n%s, %s\n", x.Site.Title, x.Site.URL)
				last = x.Site.Address
			}
			out.WriteString("  " + x.words() + "\n")
		}
	}
	return out.String()
}

// capital begins a sentence.
func capital(text string) string {
	first, n := utf8.DecodeRuneInString(text)
	if n == 0 {
		return text
	}
	return string(unicode.ToUpper(first)) + text[n:]
}

func (l Line) words() string {
	text := capital(l.Detail)
	if l.What != Trouble {
		text = capital(l.What) + ": " + l.Detail
	}
	if !strings.HasSuffix(text, ".") {
		text += "."
	}
	if l.Remedy != "" {
		text += "\n  " + l.Remedy
	}
	return text
}
