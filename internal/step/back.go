package step

import (
	"context"
	"slices"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
)

// backwards gives the moves that take others back, in their order.
func backwards(moves []files.Move) []files.Move {
	var out []files.Move
	for _, m := range slices.Backward(moves) {
		out = append(out, files.Move{From: m.To, To: m.From})
	}
	return out
}

// made says how many of some moves, the first, were made, by which names are
// there. Names may be in several moves: what one brought, another takes on. Of
// numbers that explain what is there equally well the largest is taken, so that
// what came to be there meanwhile is seen.
func (t *Tools) made(ctx context.Context, moves []files.Move) (int, error) {
	there, expected := map[string]bool{}, map[string]bool{}
	for _, m := range moves {
		for name, before := range map[string]bool{m.From: true, m.To: false} {
			if _, known := there[name]; known {
				continue
			}
			is, err := files.Exists(ctx, t.In.Files, name)
			if err != nil {
				return 0, err
			}
			there[name], expected[name] = is, before
		}
	}
	wrong := 0
	for name, is := range there {
		if is != expected[name] {
			wrong++
		}
	}
	best, fewest := 0, wrong
	turn := func(name string, now bool) {
		if expected[name] == now {
			return
		}
		expected[name] = now
		if there[name] == now {
			wrong--
		} else {
			wrong++
		}
	}
	for n, m := range moves {
		turn(m.From, false)
		turn(m.To, true)
		if wrong <= fewest {
			best, fewest = n+1, wrong
		}
	}
	return best, nil
}

// moveBack takes back those of some moves that were made, last first.
func (t *Tools) moveBack(ctx context.Context, moves []files.Move) error {
	n, err := t.made(ctx, moves)
	if err != nil {
		return err
	}
	return t.moveAllBack(ctx, moves[:n])
}

// moveAllBack takes moves back that were made, last first. A name of the account
// that has come to be there again meanwhile is never written over: what belongs
// there stays in the store, and the fault says where.
func (t *Tools) moveAllBack(ctx context.Context, moves []files.Move) error {
	for _, m := range slices.Backward(moves) {
		moved, err := files.Exists(ctx, t.In.Files, m.To)
		if err != nil {
			return err
		}
		if !moved {
			continue
		}
		still, err := files.Exists(ctx, t.In.Files, m.From)
		if err != nil {
			return err
		}
		if still {
			if inStore(t.Store(), m.To) && !inStore(t.Store(), m.From) {
				return cameBack(m.From, m.To)
			}
			continue
		}
		if err := t.In.Files.Rename(ctx, m.To, m.From); err != nil {
			return err
		}
	}
	return nil
}

func inStore(s hosting.Store, name string) bool { return files.Within(name, s.Top()) }

// cameBack is the fault of a name that somebody made again while what belongs
// there was in the store.
func cameBack(name, kept string) error {
	return fault.New(fault.Incomplete,
		"something has come to be there again; what belongs there is kept in the account, in "+
			kept, name, "Move what is there now to another name.")
}
