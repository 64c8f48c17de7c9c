package command

import (
	"cmp"
	"context"
	"strconv"
	"strings"
	"tivset/internal/fault"
	"tivset/internal/work"
	"tivset/internal/work/batch"

	"golang.org/x/sync/errgroup"
)

// wishes are the orders for those of several sites at which something is to be done.
func (a *app) wishes(rows []siteRow, found []prepared, failed []error) (out []queueRequest) {
	c := a.ordering.command
	for i, l := range found {
		if failed[i] != nil {
			out = append(out, queueRequest{what: c.Name(), at: rows[i].name(), cannot: failed[i]})
			continue
		}
		if l.nothing != nil || l.do == nil {
			continue
		}
		options := l.options
		if options == nil {
			options = map[string][]string{}
			for name, value := range rows[i].Values {
				if value != "" && c.Flags().Lookup(name) != nil {
					options[name] = []string{value}
				}
			}
		}
		out = append(
			out,
			queueRequest{
				what:    c.Name(),
				at:      cmp.Or(l.address, l.at),
				account: l.account.Name,
				words:   words(c, []string{rows[i].Site}, options),
			},
		)
	}
	return out
}

// lookedAtOnce is how many rows are looked at side by side.
const lookedAtOnce = 4

// lookAll looks at every row. Failed are those that cannot be reached now; all that is wrong
// with what was asked for comes back at once.
func lookAll(ctx context.Context, rows []siteRow, strict bool,
	look func(ctx context.Context, r siteRow) (prepared, error)) (found []prepared, failed []error, err error) {
	found, failed = make([]prepared, len(rows)), make([]error, len(rows))
	var group errgroup.Group
	group.SetLimit(lookedAtOnce)
	for i := range rows {
		group.Go(func() error {
			if ctx.Err() == nil {
				found[i], failed[i] = look(ctx, rows[i])
			}
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return found, nil, err
	}
	var problems mistakes
	seen := map[string]int{}
	for i, one := range found {
		err := failed[i]
		failed[i], rows[i].At = nil, one.at
		if one.folder != "" {
			at := one.account.Name + ":" + one.folder
			if first, is := seen[at]; is {
				err = fault.New(fault.Usage, "it is the place of "+rows[first].name(), one.at, "Give each a place of its own.")
			}
			seen[at] = i
		}
		f := fault.Of(err)
		switch {
		case err == nil:
		case f.Kind == fault.Failed || !strict:
			failed[i] = err
		case len(f.Problems) == 0 && len(f.Missing) > 0:
			for _, id := range f.Missing {
				problems.add(rows[i], fault.Problem{ID: id, What: fault.Needed, Remedy: "Fill it in."})
			}
		case len(f.Problems) > 0:
			for _, p := range f.Problems {
				problems.add(rows[i], p)
			}
		default:
			problems.add(rows[i], fault.Problem{What: f.Error(), Remedy: f.Remedy})
		}
	}
	return found, failed, fault.Join("it cannot be done as it is", "Nothing was touched.", problems.once())
}

// mistakes are what is wrong with rows: the same of several is said once.
type mistakes struct {
	order []fault.Problem
	of    map[fault.Problem][]siteRow
}

func (m *mistakes) add(r siteRow, p fault.Problem) {
	if m.of == nil {
		m.of = map[fault.Problem][]siteRow{}
	}
	if m.of[p] == nil {
		m.order = append(m.order, p)
	}
	m.of[p] = append(m.of[p], r)
}

func (m *mistakes) once() (out []fault.Problem) {
	for _, p := range m.order {
		names := []string{}
		for _, r := range m.of[p] {
			if r.Line > 0 {
				names = append(names, strconv.Itoa(r.Line))
			}
		}
		name := m.of[p][0].name()
		if len(names) > 1 {
			name = batch.Named("line", names)
		}
		p.ID = strings.TrimSuffix(name+", "+p.ID, ", ")
		out = append(out, p)
	}
	return out
}

// room sees that there is room for all that comes to be.
func room(ctx context.Context, d *work.Service, found []prepared, failed []error) error {
	need := map[string]int64{}
	for i, l := range found {
		if failed[i] == nil && l.bytes > 0 {
			need[l.account.Name] += l.bytes
		}
	}
	return batch.Room(ctx, d, need)
}
