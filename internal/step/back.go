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

// moveBack takes moves back that were made, last first. A name of the account
// that has come to be there again meanwhile is never written over: what belongs
// there stays in the store, and the fault says where.
func (t *Tools) moveBack(ctx context.Context, moves []files.Move) error {
	for _, m := range slices.Backward(moves) {
		moved, err := files.Exists(ctx, t.In.Files, m.To)
		if err != nil {
			return err
		}
		still, err := files.Exists(ctx, t.In.Files, m.From)
		if err != nil {
			return err
		}
		if !moved {
			continue
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
	return fault.New(fault.Left, "something has come to be there again; what belongs there is kept in the account, in "+
		kept, name, "Move what is there now to another name.")
}
