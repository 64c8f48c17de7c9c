package site

import (
	"context"
	"path"
	"slices"
	"strings"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/place"
	"tivset/internal/records/ledger"
)

// held is a site that is there, with its plan and its account's files open.
type held struct {
	ledger.Site
	plan  *Plan
	files files.Closer
}

// hold finds a site by what somebody calls it and opens its account. The caller
// closes files.
func (s *Service) hold(ctx context.Context, word string) (*held, error) {
	found, err := s.Site(ctx, word)
	if err != nil {
		return nil, err
	}
	return s.holdSite(ctx, found)
}

func (s *Service) holdSite(ctx context.Context, x ledger.Site) (*held, error) {
	p, err := s.planOf(x)
	if err != nil {
		return nil, err
	}
	fsys, err := s.OpenFiles(ctx, p.account)
	if err != nil {
		return nil, unreachable(p.account, err)
	}
	return &held{x, p, fsys}, nil
}

// begin makes the job that changes the site.
func (s *Service) begin(h *held) (*env, error) {
	e, err := s.newEnv(h.plan.account, h.files)
	if err != nil {
		return nil, err
	}
	e.plan = h.plan
	return e, nil
}

// claimed claims a site's place, and gives its marker too, for tidying up.
func (e *env) claimed(x *ledger.Site) (step *claim, marker string) {
	mark := markerName(e.account.Store, x.Address)
	return &claim{env: e, Marker: mark, Address: x.Address, Store: e.account.Store, site: x}, mark
}

// ours says of a table whether it is a site's; nil when the whole database is.
func ours(d *ledger.Database) func(table string) bool {
	if d.From == dataNew || d.Tables == "" {
		return nil
	}
	return func(table string) bool {
		return strings.HasPrefix(strings.ToLower(table), strings.ToLower(d.Tables))
	}
}

// bare is a table's name without the site's prefix.
func bare(d *ledger.Database, table string) string {
	if len(table) > len(d.Tables) && strings.EqualFold(table[:len(d.Tables)], d.Tables) {
		return table[len(d.Tables):]
	}
	return table
}

// withData signs in to the site's database for one step.
func (e *env) withData(ctx context.Context, use func(database.Session) error) error {
	data, err := e.openData(ctx)
	if err != nil {
		return err
	}
	err = use(data)
	if closed := data.Close(); err == nil {
		err = closed
	}
	return err
}

// foreign lists what lies below the site's folder and belongs to others: other
// sites, other document roots, the store, and what hosts put there.
func (e *env) foreign(ctx context.Context, p *Plan) (foreign, error) {
	others, err := e.others(ctx, p)
	return append(others, path.Join(p.Place.Folder, wellKnown)), err
}

type foreign []string

// has says whether a path is somebody else's.
func (f foreign) has(name string) bool {
	return slices.ContainsFunc(f, func(o string) bool { return place.Within(name, o) })
}

// below says whether something of somebody else's lies inside a folder.
func (f foreign) below(name string) bool {
	return slices.ContainsFunc(f, func(o string) bool { return o != name && place.Within(o, name) })
}
