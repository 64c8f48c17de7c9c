package site

import (
	"context"
	"maps"
	"path"
	"slices"

	"tivset/internal/answer"
	"tivset/internal/app/archive"
	"tivset/internal/app/kit"
	"tivset/internal/app/release"
	"tivset/internal/hosting/files"
)

// Leaves lists the parts of the archive that this site does not get.
func (s *Site) Leaves() []string {
	out := slices.Clone(s.Kit.Place.Remove)
	for _, e := range s.Kit.Extras {
		chosen := answer.Chosen(s.Answers[e.Answer()])
		for _, option := range slices.Sorted(maps.Keys(e.Parts)) {
			if !slices.Contains(chosen, option) {
				out = append(out, e.Parts[option]...)
			}
		}
	}
	return out
}

// SetUpOnly lists what the app's set-up takes away when it is over. What it empties of
// what the app writes itself, such as a cache, comes again.
func (s *Site) SetUpOnly() []string {
	var out []string
	for _, step := range s.Kit.Setup {
		for _, name := range step.Remove {
			if s.Holds(step.When) && !archive.Skipped(path.Clean(name), s.Kit.Place.Writes()) {
				out = append(out, name)
			}
		}
	}
	return out
}

// Edits says of a file whether it is a configuration file of the kit's.
func (s *Site) Edits(name string) bool {
	return slices.ContainsFunc(s.Kit.Config, func(c kit.Config) bool { return c.Path == name })
}

// Content finds out what the site's release consists of, from its archive.
func (s *Site) Content(ctx context.Context, from *release.Archives) (release.Content, error) {
	// What it was made of is what it is compared with, whatever the same release would be
	// made of today.
	file := from.Kept(s.Archive)
	if file == "" {
		var err error
		if file, err = from.Fetch(ctx, s.Kit, s.Of, release.Given{}); err != nil {
			return release.Content{}, err
		}
	}
	own := append(s.Kit.Place.Writes(), s.Kit.Update.Keep...)
	for _, c := range s.Kit.Config {
		own = append(own, c.Path)
	}
	if len(s.Kit.PHPSettings) > 0 {
		own = append(own, kit.UserINI)
	}
	return release.Read(ctx, file, s.Of, release.Layout{
		Leaves: s.Leaves(), Removed: s.SetUpOnly(), Own: own, Shared: s.Kit.Place.Mixed,
		Renamed: [2]string{s.Kit.Place.AdminFolder, s.Place.AdminFolder},
	})
}

// FolderOf is the site's folder, to be compared.
func (s *Site) FolderOf(f files.FS, entries []string, others files.Others) release.Folder {
	return release.Folder{Files: f, Name: s.Place.Folder, Entries: entries, Others: others}
}
