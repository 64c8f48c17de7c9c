package job

import (
	"bufio"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/gofrs/flock"

	"tivset/internal/atomicfile"
)

// JournalStore is where journals are kept. Whoever has one in hand holds it: no other program can
// open it meanwhile.
type JournalStore interface {
	// New makes the journal of a job and takes it in hand; an error when there is one.
	New(id string) (Log, error)

	// Open takes a journal in hand. fs.ErrNotExist when there is none, ErrRunning while
	// another program has it.
	Open(id string) (Log, error)

	// IDs lists the jobs that have a journal.
	IDs() ([]string, error)

	// Drop forgets the journal of a job that has ended; none there is fine.
	Drop(id string) error
}

// Drop implements Shelf.
func (f Files) Drop(id string) error {
	if !idForm.MatchString(id) {
		return nil
	}
	for _, name := range []string{f.path(id), lockOf(f.path(id))} {
		if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Log is the text of one journal, a line after the other.
type Log interface {
	// Lines reads all that were written whole.
	Lines() ([][]byte, error)

	// Append adds a line, which is kept for good when it returns. After an error there is
	// none of it. ErrNotOurs where the journal is not in hand any more.
	Append(line []byte) error

	// Held says whether the journal is still in hand: ErrNotOurs where it is not.
	Held() error

	// Place says where the journal is, for people.
	Place() string

	// Close lets the journal go.
	Close() error
}

// Files is a shelf of files in a folder of this machine, one a journal.
type Files string

var _ JournalStore = Files("")

func (f Files) path(id string) string { return filepath.Join(string(f), id+".jsonl") }

// New implements Shelf.
func (f Files) New(id string) (Log, error) {
	if err := os.MkdirAll(string(f), 0o700); err != nil {
		return nil, err
	}
	l, err := hold(f.path(id), os.O_CREATE|os.O_EXCL|os.O_RDWR|os.O_APPEND)
	if err != nil {
		return nil, err
	}
	if err := atomicfile.SyncFolder(string(f)); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

// Open implements Shelf.
func (f Files) Open(id string) (Log, error) {
	l, err := hold(f.path(id), os.O_RDWR|os.O_APPEND)
	if err != nil {
		return nil, err
	}
	return l, nil
}

// IDs implements Shelf.
func (f Files) IDs() (out []string, err error) {
	inside, err := os.ReadDir(string(f))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, i := range inside {
		if id, is := strings.CutSuffix(i.Name(), ".jsonl"); is {
			out = append(out, id)
		}
	}
	return out, err
}

// fileLog is a journal in a file, which is locked while it is in hand.
type fileLog struct {
	file *os.File
	lock *flock.Flock
}

func hold(name string, flags int) (*fileLog, error) {
	file, err := os.OpenFile(name, flags, 0o600)
	if err != nil {
		return nil, err
	}
	l := &fileLog{file, flock.New(lockOf(name))}
	got, err := l.lock.TryLock()
	if err == nil && !got {
		err = ErrRunning
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return l, nil
}

// Held implements Log: what is locked on this machine stays so.
func (l *fileLog) Held() error { return nil }

// Place implements Log.
func (l *fileLog) Place() string { return l.file.Name() }

// Close implements Log.
func (l *fileLog) Close() error { return errors.Join(l.lock.Unlock(), l.file.Close()) }

// Lines implements Log. A last line that was cut off is taken away: it is as if never
// written, for nothing was done on its strength.
func (l *fileLog) Lines() (out [][]byte, err error) {
	if _, err := l.file.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	in := bufio.NewReaderSize(l.file, 1<<16)
	for {
		line, err := in.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			return out, l.cutOff(len(line))
		}
		if err != nil {
			return nil, err
		}
		out = append(out, line)
	}
}

func (l *fileLog) cutOff(rest int) error {
	if rest == 0 {
		return nil
	}
	size, err := l.file.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	return l.file.Truncate(size - int64(rest))
}

// Append implements Log.
func (l *fileLog) Append(line []byte) error {
	end, err := l.file.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	if _, err := l.file.Write(line); err != nil {
		// Half a line, of a full disk, would spoil the next one.
		return errors.Join(err, l.file.Truncate(end))
	}
	return l.file.Sync()
}
