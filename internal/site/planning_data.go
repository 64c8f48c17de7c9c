package site

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"

	"tivset/internal/fault"
	"tivset/internal/kit"
)

// chooseServer picks the database server and the release that fit together.
func (s *Service) chooseServer(ctx context.Context, p *Plan, r Request) error {
	p.release = p.kit.Newest()
	if r.Release != "" {
		p.release = p.kit.Find(r.Release)
	}
	p.Release = p.release.Release
	if !p.release.NeedsDatabase() {
		return nil
	}
	for i := range p.account.Databases {
		d := &p.account.Databases[i]
		_, wanted := p.release.Needs.Database[d.Engine]
		if wanted && (p.answers["data.server"] == "" || p.answers["data.server"] == d.Name) {
			p.server = d
			break
		}
	}
	engines := strings.Join(slices.Sorted(maps.Keys(p.release.Needs.Database)), " or ")
	if p.server == nil {
		return fault.New(fault.Usage, "the account has no database server that "+p.Title+" can use", p.Account, "Add one with engine "+engines+" to the account.")
	}
	server, err := s.connect(ctx, p.server)
	if err != nil {
		return err
	}
	defer server.Close()
	if err := server.MayCreate(ctx); err != nil {
		return err
	}
	_, version, err := server.Version(ctx)
	if err != nil {
		return err
	}
	if err := fitRelease(p, r, version); err != nil {
		return err
	}
	databases, err := server.Databases(ctx)
	if err != nil {
		return err
	}
	users, err := server.Users(ctx)
	if err != nil {
		return err
	}
	return s.nameData(p, append(databases, users...))
}

// fitRelease takes the newest release that the server's version allows, unless
// one was asked for by name.
func fitRelease(p *Plan, r Request, version string) error {
	fits := func(release *kit.Release) bool {
		wanted, err := semver.NewConstraint(release.Needs.Database[p.server.Engine])
		have, errHave := semver.NewVersion(version)
		return err == nil && (errHave != nil || wanted.Check(have))
	}
	if fits(p.release) {
		return nil
	}
	if r.Release == "" {
		for i := range p.kit.Releases {
			if fits(&p.kit.Releases[i]) {
				p.release, p.Release = &p.kit.Releases[i], p.kit.Releases[i].Release
				return nil
			}
		}
	}
	return fault.New(fault.Usage, fmt.Sprintf("%s %s needs %s %s, and the server %s has %s", p.Title, p.Release, p.server.Engine,
		p.release.Needs.Database[p.server.Engine], p.server.Name, version), p.account.Name, "Ask the host for a newer server, or choose an older release: tivset about "+p.App)
}

// nameData makes names that are free: the account's prefix, the app, and
// something random.
func (s *Service) nameData(p *Plan, taken []string) error {
	short := strings.ReplaceAll(p.App, "-", "")
	short = short[:min(4, len(short))]
	var name string
	for name == "" || slices.Contains(taken, name) {
		token, err := s.Maker.Token(5)
		if err != nil {
			return err
		}
		name = p.server.Prefix + short + token
	}
	p.Data = &PlanData{Engine: p.server.Engine, Server: p.server.Name, Name: name, User: name, Clients: p.server.Clients}
	if p.kit.UsesTables() {
		letters, err := s.Maker.Token(3)
		if err != nil {
			return err
		}
		p.Data.Tables = "t" + letters + "_"
	}
	p.Changes.Databases, p.Changes.Users = []string{name}, []string{name}
	return nil
}
