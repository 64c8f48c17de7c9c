package site

import (
	"time"

	"tivset/internal/kit"
)

// newest gives the newest release of an app, or "" when no kit knows the app.
func (s *Service) newest(app string) string {
	e, err := s.Catalogue.Find(app)
	if err != nil {
		return ""
	}
	return e.Newest().Release
}

// newerThan returns newest when it is newer than release, else "".
func newerThan(release, newest string) string {
	if newest != "" && kit.Newer(newest, release) {
		return newest
	}
	return ""
}

// Standing says what speaks for and against the n-th release of a kit.
func (s *Service) Standing(k *kit.Kit, n int) string {
	r := k.Releases[n]
	text := "older"
	if n == 0 {
		text = "the newest"
	}
	switch until, err := time.Parse(time.DateOnly, r.Fixes); {
	case err != nil:
	case until.After(s.Now()):
		text += ", gets fixes until " + r.Fixes
	default:
		text += ", no fixes since " + r.Fixes
	}
	return text
}
