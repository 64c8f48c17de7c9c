package site

import "tivset/internal/kit"

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
