package step

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"github.com/klauspost/compress/zstd"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/records/depot"
)

// The depots of a job, as journals name them.
const (
	InAccount = "account" // Tivset's folder in the site's account
	Here      = "here"    // this machine
)

// DepotOf is the depot of a name.
func DepotOf(in *hosting.Account, name string) depot.Depot {
	if name == Here {
		return depot.Here()
	}
	return depot.In(in.Files, in.Store().Top())
}

// knownDepot sees that a journal says in which depot something is. One that an older release wrote does not: to look
// for it in
// the wrong place would find nothing, and leave what was to be put back.
func knownDepot(name, file string) error {
	if name == InAccount || name == Here {
		return nil
	}
	return fault.NewAs(fault.OtherRelease, fault.Failed, "another release of Tivset wrote the job's journal", file,
		"Undo the job with the release that began it. Nothing was put back.")
}

// UndoStore is a file in which a job keeps what its undo may have to put back: of this machine, or,
// where others of a team may have to undo the job, of the account.
type UndoStore struct {
	File  string `json:"file"`
	Depot string `json:"depot"`
	Host  string `json:"host,omitempty"` // the machine on which it is
}

// undoStore is where the job keeps what is named so.
func (t *Tools) undoStore(ending string) UndoStore {
	if t.Book.Home.Shared != nil {
		return UndoStore{File: path.Join(t.Store().Kept(t.Job), ending), Depot: InAccount}
	}
	host, _ := os.Hostname() // without one it is taken for this machine's
	return UndoStore{File: filepath.Join(t.Book.Home.State, "kept", t.Job+"."+ending), Depot: Here, Host: host}
}

// beside is a file that goes with it.
func (s UndoStore) beside(ending string) UndoStore {
	s.File += ending
	return s
}

// write writes the whole file.
func (s UndoStore) write(ctx context.Context, in *hosting.Account, text []byte) error {
	return depot.Write(ctx, DepotOf(in, s.Depot), s.File, text)
}

// read reads the whole of it; fs.ErrNotExist where there is none.
func (s UndoStore) read(ctx context.Context, in *hosting.Account) ([]byte, error) {
	return depot.Read(ctx, DepotOf(in, s.Depot), s.File)
}

// written is when it was written; fs.ErrNotExist where there is none.
func (s UndoStore) written(ctx context.Context, in *hosting.Account) (time.Time, error) {
	e, err := depot.Stat(ctx, DepotOf(in, s.Depot), s.File)
	return e.Modified, err
}

// there says whether something was kept. What another machine kept for itself is not here to
// be put back, and that nothing is here says nothing.
func (s UndoStore) there(ctx context.Context, t *Tools) (bool, error) {
	if err := knownDepot(s.Depot, s.File); err != nil {
		return false, err
	}
	_, err := s.written(ctx, t.In)
	if !errors.Is(err, fs.ErrNotExist) {
		return err == nil, err
	}
	host, _ := os.Hostname()
	own := filepath.Dir(s.File) == filepath.Dir(t.undoStore("").File) && (s.Host == "" || s.Host == host)
	if s.Depot == Here && t.Book.Home.Shared != nil && !own {
		return false, fault.New(fault.Failed, "what the job kept before it changed the site is on another machine", s.File,
			"Undo it on "+s.Host+". If that is no more, restore the site from a backup: "+
				fault.Call("backup", "SITE", "--list"))
	}
	return false, nil
}

// drop takes it away; none there is fine.
func (s UndoStore) drop(ctx context.Context, in *hosting.Account) error {
	return DepotOf(in, s.Depot).Remove(ctx, s.File)
}

// clear takes it away, and what is half written of it.
func (s UndoStore) clear(ctx context.Context, in *hosting.Account) error {
	return errors.Join(DepotOf(in, s.Depot).Remove(ctx, depot.Half(s.File)), s.drop(ctx, in))
}

// fill has the file written, whole or not at all.
func (s UndoStore) fill(ctx context.Context, in *hosting.Account, write func(io.Writer) error) error {
	return depot.Fill(ctx, DepotOf(in, s.Depot), s.File, write)
}

// pack has it written, packed with Zstandard.
func (s UndoStore) pack(ctx context.Context, in *hosting.Account, write func(io.Writer) error) error {
	return s.fill(ctx, in, func(to io.Writer) error {
		packed, err := zstd.NewWriter(to, zstd.WithEncoderLevel(zstd.SpeedFastest),
			zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20))
		if err == nil {
			err = errors.Join(write(packed), packed.Close())
		}
		return err
	})
}

// unpack reads what was packed.
func (s UndoStore) unpack(ctx context.Context, in *hosting.Account, use func(io.Reader) error) error {
	from, err := DepotOf(in, s.Depot).Open(ctx, s.File)
	if err != nil {
		return err
	}
	defer from.Close()
	plain, err := zstd.NewReader(from, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true))
	if err != nil {
		return err
	}
	defer plain.Close()
	return use(plain)
}
