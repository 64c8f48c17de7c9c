package team

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/records/trust"
)

// Journals is the team's shelf of journals: any machine can undo what a dead one began.
// Whoever has one in hand holds a lock of the database's, on a connection of its own; when
// that is lost, so is the lock, and with it the right to write.
type Journals struct{ *Team }

var _ job.JournalStore = Journals{}

// New implements job.Shelf.
func (s Journals) New(id string) (job.Log, error) {
	l, err := s.hold(id)
	if err != nil {
		return nil, err
	}
	if l.n > 0 {
		return nil, errors.Join(fmt.Errorf("there is a journal of %s: %w", id, fs.ErrExist), l.Close())
	}
	// before the first line, so that no line is without it
	if err := s.noteJournal(id, newJournal); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

// Open implements job.Shelf.
func (s Journals) Open(id string) (job.Log, error) {
	l, err := s.hold(id)
	if err != nil {
		return nil, err
	}
	if l.n == 0 {
		return nil, errors.Join(fmt.Errorf("no journal of %s: %w", id, fs.ErrNotExist), l.Close())
	}
	return l, nil
}

// IDs implements job.Shelf.
func (s Journals) IDs() ([]string, error) {
	return list(context.Background(), s.Team, pgx.RowTo[string], "SELECT DISTINCT id FROM journals ORDER BY id")
}

// Drop implements job.Shelf.
func (s Journals) Drop(id string) error {
	return s.change(context.Background(), func(ctx context.Context, tx *sql.Tx, w *word) error {
		return drop(ctx, tx, w, trust.What{Kind: trust.OfJournal, Key: id}, "DELETE FROM journals WHERE id = $1")
	})
}

// rowLog is a journal in the database.
type rowLog struct {
	of   *Team
	id   string
	conn *pgx.Conn // on which the lock is held
	n    int       // lines
	last []byte    // the signature of the last one
	own  session   // of the connection
	gone error     // why it is not ours any more; nil while it is
}

// session is a connection as the server knows it.
type session struct {
	pid   int32
	since time.Time
}

func (s Journals) hold(id string) (*rowLog, error) {
	l := &rowLog{of: s.Team, id: id}
	err := s.do(context.Background(), l.connect)
	if err != nil {
		return nil, err
	}
	return l, nil
}

// connect makes the connection and takes the lock on it.
func (l *rowLog) connect(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 2*connectTime)
	defer cancel()
	conn, err := pgx.ConnectConfig(ctx, l.of.config.Copy())
	if err != nil {
		return err
	}
	err = l.lock(ctx, conn)
	if err == nil {
		err = conn.QueryRow(ctx, "SELECT count(*), coalesce((SELECT signature FROM journals WHERE id = $1 ORDER BY n DESC "+
			"LIMIT 1), '') FROM journals WHERE id = $1", l.id).Scan(&l.n, &l.last)
	}
	if err != nil {
		_ = conn.Close(ctx)
		return err
	}
	l.conn = conn
	return nil
}

// lock takes the lock. The server may not know yet that the connection on which we had it
// was lost: that session is ended first.
func (l *rowLog) lock(ctx context.Context, conn *pgx.Conn) error {
	if l.own.pid != 0 {
		_, err := conn.Exec(ctx, "SELECT pg_terminate_backend(pid, 3000) FROM pg_stat_activity WHERE pid = $1 AND "+
			"backend_start = $2", l.own.pid, l.own.since)
		if err != nil {
			return err
		}
	}
	got, err := take(ctx, conn, l.of.schema+" "+l.id)
	if err == nil && !got {
		return job.ErrRunning
	}
	if err != nil {
		return err
	}
	return conn.QueryRow(ctx, "SELECT pid, backend_start FROM pg_stat_activity WHERE pid = pg_backend_pid()").
		Scan(&l.own.pid, &l.own.since)
}

// Held implements job.Log.
func (l *rowLog) Held() error {
	n := l.n
	return l.use(func(ctx context.Context) error {
		if l.n != n {
			return job.ErrNotOurs
		}
		_, err := l.conn.Exec(ctx, "SELECT 1")
		return err
	})
}

// Lines implements job.Log.
func (l *rowLog) Lines() (out [][]byte, err error) {
	var lines []signedLine
	err = l.use(func(ctx context.Context) error {
		rows, err := l.conn.Query(ctx, linesOf, l.id)
		if err != nil {
			return err
		}
		lines, err = pgx.CollectRows(rows, pgx.RowToStructByPos[signedLine])
		return err
	})
	if err != nil {
		return nil, err
	}
	if err := l.of.rightLines(context.Background(), l.id, lines); err != nil {
		return nil, err
	}
	for _, line := range lines {
		out = append(out, []byte(line.Line))
	}
	return out, nil
}

// Append implements job.Log.
func (l *rowLog) Append(line []byte) error {
	n := l.n
	var signed signedLine
	err := l.use(func(ctx context.Context) (err error) {
		if l.n == n+1 { // it was written, and the answer was lost
			return l.same(ctx, n, line)
		}
		signed, err = l.write(ctx, n, line)
		return err
	})
	if err == nil {
		l.n, l.last = n+1, signed.Signature
	}
	return err
}

// write signs a line and writes it. No line counts that somebody writes after they have left the team.
func (l *rowLog) write(ctx context.Context, n int, line []byte) (signedLine, error) {
	for {
		known, signed, err := l.of.signLine(ctx, l.id, n, l.last, line)
		if err != nil {
			return signed, err
		}
		done, err := l.conn.Exec(ctx, "INSERT INTO journals (id, n, line, member, signature) SELECT $1, $2, $3, $4, $5 "+
			"WHERE NOT EXISTS (SELECT FROM log WHERE log.n > $6 AND kind = 'charter')", l.id, n, signed.Line, signed.Member,
			signed.Signature, known)
		if err != nil || done.RowsAffected() > 0 {
			return signed, err
		}
		if _, err := l.of.Charter(ctx); err != nil { // the team has changed
			return signed, err
		}
	}
}

// same sees that the line at n is the one that was to be written.
func (l *rowLog) same(ctx context.Context, n int, line []byte) error {
	var there string
	err := l.conn.QueryRow(ctx, "SELECT line FROM journals WHERE id = $1 AND n = $2", l.id, n).Scan(&there)
	if err == nil && there != string(line) {
		return job.ErrNotOurs
	}
	return err
}

// use does something on the connection that holds the lock. A connection that was lost is
// made again, for as long as somebody has patience for: what was written meanwhile by
// somebody else means that the job is theirs now.
func (l *rowLog) use(do func(context.Context) error) error {
	if l.gone != nil {
		return l.gone
	}
	if l.gone = l.worded(l.tried(do)); l.gone != nil {
		_ = l.Close() // others may take it in hand
	}
	return l.gone
}

func (l *rowLog) tried(do func(context.Context) error) error {
	n := l.n
	return l.of.do(context.Background(), func(ctx context.Context) error {
		if l.conn == nil || l.conn.IsClosed() {
			if err := l.connect(ctx); err != nil {
				return err
			}
			if l.n != n && l.n != n+1 {
				return job.ErrNotOurs
			}
		}
		within, cancel := context.WithTimeout(ctx, 2*connectTime)
		defer cancel()
		err := do(within)
		if lost(err) {
			_ = l.conn.Close(within)
		}
		return err
	})
}

// worded is an error for people: what cannot be written is not ours to go on with.
func (l *rowLog) worded(err error) error {
	switch {
	case err == nil:
		return nil
	case slices.Contains([]fault.Code{fault.NotOfTeam, fault.MayOnlyLook, fault.NotBelieved}, fault.CodeOf(err)):
		f := fault.Of(err)
		return fault.NewAs(f.Code, fault.Incomplete, "the job stands still: "+f.What, l.id,
			"Somebody of the team takes it back: "+fault.Call("undo", l.id)).Wrap(fmt.Errorf("%w: %w", job.ErrNotOurs, err))
	case errors.Is(err, job.ErrRunning) || errors.Is(err, job.ErrNotOurs):
		return fault.NewAs(fault.TakenOver, fault.Incomplete,
			"the job was taken over by another program while the ledger could not be reached", l.id,
			"See what became of it: "+fault.Call("jobs")).
			Wrap(job.ErrNotOurs)
	}
	return fault.New(fault.Incomplete, "the job stands still, for the ledger takes nothing", l.of.address,
		"When it does, run: "+fault.Call("undo", l.id)).Wrap(fmt.Errorf("%w: %w", job.ErrNotOurs, err))
}

// Place implements job.Log.
func (l *rowLog) Place() string { return l.of.address }

// Close implements job.Log.
func (l *rowLog) Close() error {
	letGo(l.conn, l.of.schema+" "+l.id)
	return nil
}

// take takes a lock, which lasts as long as the connection; false while another has it.
func take(ctx context.Context, conn *pgx.Conn, key string) (got bool, err error) {
	err = conn.QueryRow(ctx, "SELECT pg_try_advisory_lock(hashtextextended($1, 0))", key).Scan(&got)
	return got, err
}

// letGo lets go of a lock, and of the connection on which it is held: that the connection has
// ended the server hears a moment later, and others would find the lock taken. One that was
// lost holds nothing.
func letGo(conn *pgx.Conn, key string) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	_, _ = conn.Exec(ctx, "SELECT pg_advisory_unlock(hashtextextended($1, 0))", key)
	_ = conn.Close(ctx)
}

// Free ends the connection of whoever has a journal in hand, and has not been seen for so
// long that what it began is somebody else's to end. It can write nothing more.
func (s Journals) Free(ctx context.Context, id string) error {
	return s.exec(
		ctx,
		"SELECT pg_terminate_backend(pid, 5000) FROM pg_locks, LATERAL (SELECT hashtextextended($1, 0) AS k) "+
			"AS key WHERE locktype = 'advisory' AND objsubid = 1 AND granted AND classid = ((k >> 32) & 4294967295)::oid AND "+
			"objid = (k & 4294967295)::oid",
		s.schema+" "+id,
	)
}
