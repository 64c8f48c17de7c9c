package place

import (
	"context"
	"errors"
	"io"
	"strings"

	"tivset/internal/hosting/database"
	"tivset/internal/site"
)

// marks gives the marks of the source's tables; nil where it has none, or where
// its server cannot tell.
func (p *placing) marks(ctx context.Context) (map[string]string, error) {
	if p.plan.From.Database == nil || p.plan.source.Of.Server.InFiles() {
		return nil, nil
	}
	var out map[string]string
	err := p.plan.source.Of.WithData(ctx, p.plan.source.In, func(s database.Session) (err error) {
		if m, can := s.(database.Marker); can {
			out, err = m.Marks(ctx, site.OwnTables(p.plan.From.Database))
		}
		return err
	})
	if errors.Is(err, errors.ErrUnsupported) {
		return nil, nil
	}
	return out, err
}

// catchUpData loads what has changed in the closed source's database since it was
// read: the tables whose marks are others; all where nobody can tell.
func (p *placing) catchUpData(ctx context.Context) error {
	if p.load == nil {
		return nil
	}
	now, err := p.marks(ctx)
	if err != nil {
		return err
	}
	own := site.OwnTables(p.plan.From.Database)
	changed := own // all that is the site's
	if now != nil && p.before != nil && now[""] == p.before[""] && now[""] == p.between[""] {
		names := p.changed(now)
		if len(names) == 0 {
			return nil
		}
		changed = func(table string) bool { return names[table] }
	}
	return p.loadAnew(ctx, changed)
}

// changed lists the tables whose marks were not always the same.
func (p *placing) changed(now map[string]string) map[string]bool {
	out := map[string]bool{}
	for _, marks := range []map[string]string{p.before, p.between, now} {
		for name := range marks {
			if name != "" && (p.before[name] != now[name] || p.between[name] != now[name]) {
				out[name] = true
			}
		}
	}
	return out
}

// loadAnew loads some tables of the source, nil for all, in the place of what was
// loaded of them before.
func (p *placing) loadAnew(ctx context.Context, only func(string) bool) error {
	reader, writer := io.Pipe()
	source := p.plan.source
	go func() {
		err := source.Of.WithData(ctx, source.In, func(s database.Session) error { return s.Dump(ctx, writer, only) })
		_ = writer.CloseWithError(err)
	}()
	script := p.plan.content.Rewritten(reader, p.plan.From.Database.Engine, p.plan.Kit.Kit, p.change, p.Result.Left)
	defer script.Close()
	return p.load.Anew(ctx, script, p.there(only))
}

// there words names of the source's tables as those that they have at the new
// place.
func (p *placing) there(only func(string) bool) func(string) bool {
	o := p.load.Options
	if only == nil {
		return site.OwnTables(p.Site.Recorded())
	}
	return func(table string) bool {
		if o.From != "" && strings.HasPrefix(table, o.To) {
			return only(o.From + strings.TrimPrefix(table, o.To))
		}
		return only(table)
	}
}
