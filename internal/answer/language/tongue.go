// Package language knows languages by their names, in English and in their own.
package language

import (
	"strings"

	"golang.org/x/text/language"
	"golang.org/x/text/language/display"
)

// English gives a language's English name by its tag (BCP 47, with - or _): de_AT is
// "Austrian German". A tag that none has stays as it is.
func English(tag string) string {
	t, err := language.Parse(strings.ReplaceAll(tag, "_", "-"))
	if name := display.English.Tags().Name(t); err == nil && name != "" {
		return name
	}
	return tag
}

// Own gives a language's name for itself, such as "Deutsch"; the tag where it is not known.
func Own(tag string) string {
	t, err := language.Parse(strings.ReplaceAll(tag, "_", "-"))
	if name := display.Self.Name(t); err == nil && name != "" {
		return name
	}
	return tag
}

// Named is how a language stands in a list: both of its names, then the tag.
func Named(tag string) string {
	english, own := English(tag), Own(tag)
	switch {
	case english == tag:
		return tag
	case strings.EqualFold(english, own):
		return english + " (" + tag + ")"
	}
	return english + ", " + own + " (" + tag + ")"
}

// Find gives the tag among some that a word means: the tag itself, or a name of it in any
// case; "" for none.
func Find(word string, tags []string) string {
	for _, tag := range tags {
		for _, name := range []string{tag, English(tag), Own(tag)} {
			if strings.EqualFold(word, name) {
				return tag
			}
		}
	}
	return ""
}
