package team

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"fmt"

	"tivset/internal/fault"
	"tivset/internal/records/trust"
)

// signedLine is a line of a journal, with who signed it.
type signedLine struct {
	Line      string
	Member    string
	Signature []byte
}

// linesOf reads the lines of a journal.
const linesOf = "SELECT line, member, signature FROM journals WHERE id = $1 ORDER BY n"

// newJournal is what the log says of a journal that begins: its lines count when they are signed by somebody who
// may operate. When somebody leaves, the log says how far the lines counted until then.
const newJournal = "journal"

// noteJournal notes what the log says of a journal.
func (t *Team) noteJournal(id, says string) error {
	return t.change(context.Background(), func(_ context.Context, _ *sql.Tx, w *word) error {
		return w.Note(trust.What{Kind: trust.OfJournal, Key: id, Record: []byte(says)})
	})
}

// signLine signs the next line of a journal, and says up to which entry of the log this machine knows that it may.
func (t *Team) signLine(ctx context.Context, id string, n int, before, line []byte) (known int64, s signedLine,
	err error) {
	c, err := t.memory.chain(ctx, t.memory.db)
	if err != nil {
		return 0, s, err
	}
	m := c.Charter.Signing(t.signer.Public())
	switch {
	case m == nil:
		return 0, s, t.notOf()
	case !m.May.May(trust.Operate):
		return 0, s, t.mayNot(nil)
	}
	return c.Head.N, signedLine{string(line), m.Name, t.signer.SignLine(c.Charter.Team, id, n, before, line)}, nil
}

// rightLines sees that the team wrote all lines of a journal that it began, and has not ended.
func (t *Team) rightLines(ctx context.Context, id string, lines []signedLine) error {
	c, err := t.Charter(ctx)
	if err != nil {
		return err
	}
	said, _, err := t.memory.word(ctx, trust.OfJournal, id)
	if err != nil {
		return err
	}
	fixed := 0 // so many lines are vouched for by the log
	if !same(said, []byte(newJournal)) {
		if fixed = fixedLines(lines, said); fixed == 0 {
			return t.forgedJournal(id)
		}
	}
	var before []byte
	for n, line := range lines {
		m := c.Member(line.Member)
		right := m != nil && m.May.May(trust.Operate) &&
			m.SignedLine(c.Team, id, n, before, []byte(line.Line), line.Signature)
		if n >= fixed && !right {
			return t.forgedJournal(id)
		}
		before = line.Signature
	}
	return nil
}

func (t *Team) forgedJournal(id string) error {
	return fault.NewAs(fault.NotBelieved, fault.NeedsConfirmation, "nobody of the team wrote the journal of job "+id,
		t.address, "Nothing of it was carried out. See who can write into the database.")
}

// fixedText is what the log says of a journal whose first lines count whoever wrote them.
func fixedText(n int, sum []byte) []byte { return fmt.Appendf(nil, "journal %d %x", n, sum) }

// fixedLines is how many lines that is; 0 where the log says something else.
func fixedLines(lines []signedLine, said []byte) int {
	var sum []byte
	for n, line := range lines {
		if sum = lineSum(sum, line); same(said, fixedText(n+1, sum)) {
			return n + 1
		}
	}
	return 0
}

func lineSum(before []byte, line signedLine) []byte {
	sum := sha256.New()
	sum.Write(before)
	fmt.Fprintf(sum, "%d %s%d %s", len(line.Line), line.Line, len(line.Member), line.Member)
	sum.Write(line.Signature)
	return sum.Sum(nil)
}

// fixed notes how far journals count in which somebody wrote who may not from the next charter on.
func (t *Team) fixed(ctx context.Context, tx *sql.Tx, w *word, before, next *trust.Charter) error {
	// nobody writes one more line meanwhile
	if _, err := tx.ExecContext(ctx, "LOCK TABLE journals IN SHARE MODE"); err != nil {
		return err
	}
	ids, err := texts(ctx, tx, "SELECT DISTINCT id FROM journals ORDER BY id")
	if err != nil {
		return err
	}
	for _, id := range ids {
		lines, err := linesIn(ctx, tx, id)
		if err != nil {
			return err
		}
		var sum []byte
		gone := false
		for _, line := range lines {
			sum = lineSum(sum, line)
			m, was := next.Member(line.Member), before.Member(line.Member)
			gone = gone || was != nil && (m == nil || !m.May.May(trust.Operate))
		}
		if !gone {
			continue
		}
		if err := t.rightLines(ctx, id, lines); err != nil {
			continue // it counts for nobody
		}
		if err := w.Note(trust.What{Kind: trust.OfJournal, Key: id, Record: fixedText(len(lines), sum)}); err != nil {
			return err
		}
	}
	return nil
}

func linesIn(ctx context.Context, tx *sql.Tx, id string) (out []signedLine, err error) {
	rows, err := tx.QueryContext(ctx, linesOf, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var one signedLine
		if err := rows.Scan(&one.Line, &one.Member, &one.Signature); err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, rows.Err()
}
