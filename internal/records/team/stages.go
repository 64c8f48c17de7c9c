package team

import (
	"context"
	"encoding/json"

	"github.com/jackc/pgx/v5"
)

// Stages is what has been done of a job, as its journal tells to who looks on.
type Stages struct {
	Done  []string // the titles of the steps that ended since
	Lines int      // of the journal
}

// Stages reads what has come to a job's journal since a line, without taking it in hand.
func (t *Team) Stages(ctx context.Context, id string, since int) (out Stages, err error) {
	lines, err := list(ctx, t, pgx.RowToStructByPos[signedLine], linesOf, id)
	if err != nil || len(lines) == 0 {
		return out, err
	}
	if err := t.rightLines(ctx, id, lines); err != nil {
		return out, err
	}
	out.Lines = len(lines)
	titles := map[int]string{}
	for n, line := range lines {
		var r struct {
			N            int
			State, Title string
		}
		if json.Unmarshal([]byte(line.Line), &r) != nil {
			continue
		}
		if r.Title != "" {
			titles[r.N] = r.Title
		}
		if n < since || titles[r.N] == "" {
			continue
		}
		switch r.State {
		case "done":
			out.Done = append(out.Done, titles[r.N])
		case "undone":
			out.Done = append(out.Done, "undone: "+titles[r.N])
		}
	}
	return out, nil
}
