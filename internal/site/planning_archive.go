package site

import (
	"context"
	"maps"
	"slices"

	"tivset/internal/answer"
	"tivset/internal/app/archive"
	"tivset/internal/fault"
)

// lookAtArchive fetches and verifies the archive and reads it through, so that
// the plan says what it will make and a bad one is refused here.
func (s *Service) lookAtArchive(ctx context.Context, p *Plan, r Request) error {
	if r.content != nil {
		p.measure(r.content)
		return nil
	}
	var err error
	if p.archive, err = s.fetch(ctx, p.kit, p.release, r.Archive); err != nil {
		return err
	}
	if p.survey, err = survey(ctx, p.archive, p.release.Archive.Top, p.leaves()); err != nil {
		return fault.New(fault.Failed, "the archive of "+p.Title+" "+p.Release+" cannot be used", "", "Tell whoever made the kit. Nothing was touched.").Because(err)
	}
	p.countFiles()
	return nil
}

// leaves lists the parts of the archive that this site does not get.
func (p *Plan) leaves() []string {
	out := slices.Clone(p.kit.Place.Remove)
	for _, e := range p.kit.Extras {
		chosen := answer.Chosen(p.answers[e.Answer()])
		for _, option := range slices.Sorted(maps.Keys(e.Parts)) {
			if !slices.Contains(chosen, option) {
				out = append(out, e.Parts[option]...)
			}
		}
	}
	return out
}

// countFiles adds up what will be in the place: the archive's files, without
// those that the set-up takes away, and the configuration files.
func (p *Plan) countFiles() {
	var gone []string
	for _, step := range p.kit.Setup {
		if holds(step.When, p.answers) {
			gone = append(gone, step.Remove...)
		}
	}
	for _, c := range p.kit.Config {
		gone = append(gone, c.Path) // written anew, over one from the archive
	}
	p.Changes.Files = len(p.kit.Config)
	for name, size := range p.survey.Sizes {
		if !archive.Skipped(name, gone) {
			p.Changes.Files++
			p.Changes.Bytes += size
		}
	}
	for _, list := range []*[]string{&p.Changes.Databases, &p.Changes.Users, &p.Changes.Timers, &p.Changes.SetAside} {
		if *list == nil {
			*list = []string{}
		}
	}
}
