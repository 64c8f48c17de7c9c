// Package runtime is what makes an app's pages out of its files: which files it runs, and how pages of ours say
// something through it. An account's sites may be of several; a site's files tell which.
//
// It knows no app, and asks nobody for anything: it words pages.
package runtime

import (
	"path"
	"time"
)

// Runtime makes pages out of files. Each text that it gives is a whole file, with an ending of Pages.
type Runtime interface {
	// Name is how it is called, in lower case.
	Name() string

	// Pages are the endings of files that it runs when they are asked for, with the dot; pages of ours get the first.
	Pages() []string

	// CodeCache is for how long it may go on running a file that is gone, unless its cache is emptied.
	CodeCache() time.Duration

	// Closed is a page that answers with status 503 and Retry-After (RFC 9110, 15.6.4), and shows a text (HTML).
	Closed(retryAfter int, text string) string

	// Guarded is one of the app's own pages that answers as Closed does whoever does not bring a pass, and all others as
	// before. Is is false for a page that does nothing when it is asked for by itself.
	Guarded(page string, g Guard) (guarded string, is bool)

	// Moved is a page that leads elsewhere.
	Moved(m Moved) string

	// Admit is a page that hands a session over.
	Admit(a Admission) string

	// Emptier is a page that empties the code cache, and what it says when that is done; both are "" where there is none.
	// Sign is in it, and shown to nobody.
	Emptier(sign string) (page, says string)
}

// Guard is what a page needs to know a pass: it is a cookie, or for programs a setting (GuardSetting).
type Guard struct {
	Cookie     string // its name
	Hash       string // SHA-256 of the pass, in hex
	Sign       string // is in the page, and in what it shows to who has no pass
	RetryAfter int    // in seconds
	Text       string // HTML
}

// Moved is where a page leads: with the path and the query that it was asked for, permanently (RFC 9110, 15.4.2).
type Moved struct {
	From   string // the path of the address that moved
	To     string // the new address
	Sign   string // is in the page, and shown to nobody
	MaxAge int    // for how long browsers may keep to it, in seconds
}

// Admission is what a page needs to give cookies to whoever posts a half of a secret as the field half: once, within a
// minute, and gone before it does. To who asks without it the page says "ready".
type Admission struct {
	Hash    string // the half's SHA-256, in hex
	Cookies string // covered with a pad of SHA-256 over half/0, half/1 …, in base64: a list in JSON
	To      string // where it leads then, in base64
}

// Set are the runtimes that there may be.
type Set []Runtime

// Of gives the one that runs a file of this name; nil for none.
func (s Set) Of(name string) Runtime {
	ending := path.Ext(name)
	for _, r := range s {
		for _, e := range r.Pages() {
			if e == ending {
				return r
			}
		}
	}
	return nil
}

// Endings are those of all files that any of them runs.
func (s Set) Endings() (out []string) {
	for _, r := range s {
		out = append(out, r.Pages()...)
	}
	return out
}
