package batch

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"tivset/internal/fault"
	"tivset/internal/work"
)

// lookedAtOnce is how many rows are looked at side by side.
const lookedAtOnce = 4

// Look looks at every row. Rows that cannot be reached now have that as their error; all that is wrong
// with what was asked for, in whichever row, comes back at once, and so does what there is no room for.
func (b *Batch) Look(ctx context.Context, d *work.Service) error {
	var group errgroup.Group
	group.SetLimit(lookedAtOnce)
	for _, r := range b.Rows {
		group.Go(func() error {
			if ctx.Err() == nil {
				r.Plan, r.Err = r.Request.Plan(ctx, d)
				r.located(ctx, d)
				glance(ctx, d, r.at, r.Err)
			}
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	var wrong mistakes
	meeting := b.meeting()
	for _, r := range b.Rows {
		f := fault.Of(r.Err)
		if meeting[r] != nil && (r.Err == nil || f.Kind == fault.Usage) {
			wrong.add(r, *meeting[r])
		}
		switch {
		case r.Err == nil && meeting[r] != nil:
		case r.Err == nil || f.Kind == fault.Failed || !b.Strict:
			continue
		default:
			wrong.of(r, f)
		}
		r.Err = nil
	}
	if err := fault.Join("it cannot be done as it is", "Nothing was touched.", wrong.once()); err != nil {
		return err
	}
	return b.room(ctx, d)
}

// glance has the record of a site at which something failed say whether it is there.
func glance(ctx context.Context, d *work.Service, address string, err error) {
	if f := fault.Of(err); err == nil || address == "" || f.Busy || f.Kind == fault.Usage || ctx.Err() != nil {
		return
	}
	_ = d.Examiner.Glance(ctx, address) // what cannot be looked at says nothing
}

// located finds out how a row is called.
func (r *Row) located(ctx context.Context, d *work.Service) {
	if r.Plan != nil {
		r.at, r.folder = cmp.Or(r.Plan.At, r.Plan.Address), r.Plan.Folder
		if r.Plan.Account != nil {
			r.account = r.Plan.Account.Name
		}
	} else if at, err := r.Request.Where(ctx, d); err == nil {
		r.at, r.folder = at.Address, at.Folder
		if at.Account != nil {
			r.account = at.Account.Name
		}
	}
}

// mistakes are what is wrong with rows: the same of several is said once.
type mistakes struct {
	order []fault.Problem
	rows  map[fault.Problem][]*Row
}

// of adds what is wrong with one row.
func (m *mistakes) of(r *Row, f *fault.Error) {
	switch {
	case len(f.Problems) > 0:
		for _, p := range f.Problems {
			m.add(r, p)
		}
	case len(f.Missing) > 0:
		for _, id := range f.Missing {
			m.add(r, fault.Problem{ID: id, What: fault.Needed, Remedy: "Fill it in."})
		}
	default:
		m.add(r, fault.Problem{What: f.Error(), Remedy: f.Remedy})
	}
}

func (m *mistakes) add(r *Row, p fault.Problem) {
	if m.rows == nil {
		m.rows = map[fault.Problem][]*Row{}
	}
	if m.rows[p] == nil {
		m.order = append(m.order, p)
	}
	m.rows[p] = append(m.rows[p], r)
}

func (m *mistakes) once() (out []fault.Problem) {
	for _, p := range m.order {
		var lines, names []string
		for _, r := range m.rows[p] {
			names = append(names, r.Name())
			if r.Line > 0 {
				lines = append(lines, strconv.Itoa(r.Line))
			}
		}
		name := strings.Join(names, ", ")
		switch {
		case len(lines) > 1:
			name = several("line", lines)
		case len(lines) == 1 && p.ID != "":
			name = "line " + lines[0]
		}
		p.ID = strings.TrimSuffix(name+", "+p.ID, ", ")
		out = append(out, p)
	}
	return out
}

// mostLines is how many lines are named that have the same problem.
const mostLines = 8

// several names several by their numbers; of many not all.
func several(what string, all []string) string {
	if more := len(all) - mostLines; more > 0 {
		all = append(all[:mostLines:mostLines], fmt.Sprintf("and %d more", more))
	}
	return what + "s " + strings.Join(all, ", ")
}

// meeting finds rows that would be at one place, and those that would be in another one's folder: side
// by side, neither can look at what the other makes.
func (b *Batch) meeting() map[*Row]*fault.Problem {
	var rows []*Row
	for _, r := range b.Rows {
		if r.ToDo() && r.Plan.Folder != "" || r.Plan == nil && r.folder != "" {
			rows = append(rows, r)
		}
	}
	slices.SortStableFunc(rows, func(a, b *Row) int { // what is around others comes first
		return cmp.Or(cmp.Compare(len(a.folder), len(b.folder)), cmp.Compare(a.Line, b.Line))
	})
	taken, out := map[string]*Row{}, map[*Row]*fault.Problem{}
	for _, r := range rows {
		for folder := r.folder; folder != "."; folder = path.Dir(folder) {
			other := taken[r.account+":"+folder]
			if other == nil {
				continue
			}
			p := &fault.Problem{ID: "at", What: "it is the place of " + other.place(),
				Remedy: "Give each site a place of its own."}
			if folder != r.folder {
				p.What = "it would lie in the site of " + other.place()
				p.Remedy = "Give it a directory of its own, or do one after the other."
			}
			out[r] = p
			break
		}
		if at := r.account + ":" + r.folder; taken[at] == nil {
			taken[at] = r
		}
	}
	return out
}

// place is how another row is named.
func (r *Row) place() string {
	if r.Line == 0 {
		return r.At()
	}
	return fmt.Sprintf("line %d", r.Line)
}

// room sees that the accounts have room for all that comes to be.
func (b *Batch) room(ctx context.Context, d *work.Service) error {
	need := map[string]int64{}
	for _, r := range b.Rows {
		if r.ToDo() && r.Plan.Bytes > 0 {
			need[r.Plan.Account.Name] += r.Plan.Bytes
		}
	}
	return room(ctx, d, need)
}

// room sees that accounts have so many bytes left. What an account does not tell holds nobody up.
func room(ctx context.Context, d *work.Service, need map[string]int64) error {
	for _, name := range slices.Sorted(maps.Keys(need)) {
		a, err := d.Book.Home.Account(name)
		if err != nil {
			return err
		}
		in, err := d.Hosting.Open(ctx, a)
		if err != nil {
			return err
		}
		free, told := in.Free(ctx)
		if err := in.Close(); err != nil {
			return err
		}
		if told && free < need[name] {
			return fault.New(fault.Usage, fmt.Sprintf("all of them together need %d MB, and the account has %d MB left",
				need[name]>>20, free>>20), name, "Make room, or do fewer. Nothing was touched.")
		}
	}
	return nil
}
