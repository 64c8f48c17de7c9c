package rounds

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// subject says the worst of it.
func (l *letter) subject() string {
	sites, troubled := map[string]string{}, map[string]string{}
	for _, x := range l.Passages {
		sites[x.Address] = x.Title
		if x.What == Trouble {
			troubled[x.Address] = x.Title
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
func (l *letter) text() string {
	if l.Owner != nil {
		return l.ownersText()
	}
	var out strings.Builder
	fmt.Fprintf(&out, "The maintenance run of %s, by %s.\n", l.At.Local().Format("2 January 2006, 15:04"), l.Who)
	if l.Cut {
		out.WriteString("It was ended before it was through. This is what it had done by then; the next run does the rest.\n")
	}
	for _, part := range []struct {
		heading string
		of      func(passage) bool
	}{{"This needs you", func(x passage) bool { return x.What == Trouble }},
		{"This was done", func(x passage) bool { return x.What != Trouble }}} {
		last, begun := "", false
		for _, x := range l.Passages {
			if !part.of(x) {
				continue
			}
			if !begun {
				fmt.Fprintf(&out, "\n%s\n", strings.ToUpper(part.heading))
				begun = true
			}
			if x.Address != last {
				fmt.Fprintf(&out, "\n%s, %s\n", x.Title, x.URL)
				last = x.Address
			}
			out.WriteString("  " + x.words() + "\n")
		}
	}
	return out.String()
}

// ownersText is for who owns the site and has it looked after: what was done, and no calls to type.
func (l *letter) ownersText() string {
	var out strings.Builder
	last := ""
	for _, x := range l.Passages {
		if x.Address != last {
			if last != "" {
				out.WriteString("\n")
			}
			fmt.Fprintf(&out, "%s, %s\n", x.Title, x.URL)
			last = x.Address
		}
		out.WriteString("  " + x.ownersWords() + "\n")
	}
	fmt.Fprintf(&out, "\nThere is nothing that you need to do. Questions: %s\n", l.Owner.questions())
	return out.String()
}

func (o *owner) questions() string {
	if o.Operator == "" {
		return o.Address
	}
	return o.Operator + ", " + o.Address
}

// ownersWords say what was done as somebody reads it who has never seen this program.
func (x passage) ownersWords() string {
	switch x.What {
	case Updated:
		return "Your site was updated " + strings.TrimSuffix(x.Detail, ", and checked") +
			". It was checked afterwards, and works."
	case BackedUp:
		return "A backup of your site was made."
	case Checked:
		return "Your site was checked: all is well."
	}
	return "Work at your site was put off until later."
}

// capital begins a sentence.
func capital(text string) string {
	first, n := utf8.DecodeRuneInString(text)
	if n == 0 {
		return text
	}
	return string(unicode.ToUpper(first)) + text[n:]
}

func (x passage) words() string {
	text := capital(x.Detail)
	if x.What != Trouble {
		text = capital(x.What) + ": " + x.Detail
	}
	if !strings.HasSuffix(text, ".") {
		text += "."
	}
	if x.Remedy != "" {
		text += "\n  " + x.Remedy
	}
	return text
}
