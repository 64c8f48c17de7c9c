package wizard

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/app/catalogue"
	"tivset/internal/fault"
	"tivset/internal/suggest"
)

// few is up to how many apps are listed one a line.
const few = 10

// chooseApp asks for an app until what is typed means one: its number, its name, what it
// is for, or a word of what is said of it.
func (c *Conversation) chooseApp(ctx context.Context) error {
	all, _, err := c.Book.Catalogue.Cards()
	if err != nil {
		return err
	}
	names := make([]string, len(all))
	for i, e := range all {
		names[i] = e.App
	}
	shown := c.showApps(all)
	for {
		word, err := c.Ask.Ask(ctx, Prompt{Text: "App", Fallback: c.Request.App, Words: names, Check: needed,
			Help: "Its name or a part of it, what it is for, or its number in the list. More about one: " +
				fault.Call("about", "APP") + "."})
		if err != nil {
			return err
		}
		found := Find(word, shown, all)
		switch len(found) {
		case 1:
			c.Request.App = found[0].App
			c.Ask.Good(found[0].Title + ": " + found[0].Summary)
			return c.Planner.LookUp(ctx, c.Request.App)
		case 0:
			c.Ask.Refuse("that is none of them", strings.TrimSpace(suggest.Hint(word, names)+" Type a name, or what it is for."))
		default:
			shown = c.showApps(found)
		}
	}
}

func betweenWords(r rune) bool { return strings.ContainsRune(" ,.;:()", r) }

func needed(value string) (what, remedy string) {
	if strings.TrimSpace(value) == "" {
		return "this needs an answer", ""
	}
	return "", ""
}

// showApps lists a few apps with numbers, or many by what they are for; it gives those
// that have a number.
func (c *Conversation) showApps(all []catalogue.Card) []catalogue.Card {
	if len(all) <= few {
		var rows [][]string
		for _, e := range all {
			rows = append(rows, []string{e.Title, e.Kind, e.Summary})
		}
		c.Ask.List(rows)
		return all
	}
	of, widest := map[string][]string{}, 0
	for _, e := range all {
		of[e.Kind] = append(of[e.Kind], e.Title)
		widest = max(widest, len(e.Kind))
	}
	for _, kind := range slices.Sorted(maps.Keys(of)) {
		titles := of[kind]
		text := strings.Join(titles[:min(len(titles), 6)], ", ")
		if n := len(titles) - 6; n > 0 {
			text += fmt.Sprintf(" and %d more", n)
		}
		c.Ask.Note(fmt.Sprintf("  %-*s  %s", widest, kind, text))
	}
	return nil
}

// Find gives the apps that a word means: by its number among those shown, else by name or
// title, else by a part of them or by what an app is for, else by words of the summary.
func Find(word string, shown, all []catalogue.Card) []catalogue.Card {
	word = strings.ToLower(strings.TrimSpace(word))
	if n, err := strconv.Atoi(word); err == nil {
		if n < 1 || n > len(shown) {
			return nil
		}
		return shown[n-1 : n]
	}
	if word == "" {
		return nil
	}
	for _, means := range []func(e catalogue.Card) bool{
		func(e catalogue.Card) bool { return e.App == word || strings.ToLower(e.Title) == word },
		func(e catalogue.Card) bool {
			return strings.Contains(e.App, word) || strings.Contains(strings.ToLower(e.Title), word) || e.Kind == word
		},
		func(e catalogue.Card) bool {
			words := strings.FieldsFunc(strings.ToLower(e.Summary), betweenWords)
			return slices.ContainsFunc(words, func(w string) bool { return strings.HasPrefix(w, word) })
		},
	} {
		var found []catalogue.Card
		for _, e := range all {
			if means(e) {
				found = append(found, e)
			}
		}
		if len(found) > 0 {
			return found
		}
	}
	return nil
}
