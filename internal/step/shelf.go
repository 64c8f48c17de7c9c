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
	"tivset/internal/hosting/files"
)

// UndoStore is a file in which a job keeps what its undo may have to put back: of this machine, or,
// where others of a team may have to undo the job, of the account.
type UndoStore struct {
	File      string `json:"file"`
	InAccount bool   `json:"in_account,omitempty"`
	Host      string `json:"host,omitempty"` // the machine on which it is
}

// shelf is where the job keeps what is named so.
func (t *Tools) shelf(ending string) UndoStore {
	if t.Book.Home.Shared != nil {
		return UndoStore{File: path.Join(t.Store().Kept(t.Job), ending), InAccount: true}
	}
	host, _ := os.Hostname() // without one it is taken for this machine's
	return UndoStore{File: filepath.Join(t.Book.Home.State, "kept", t.Job+"."+ending), Host: host}
}

// beside is a file that goes with it.
func (s UndoStore) beside(ending string) UndoStore {
	s.File += ending
	return s
}

// create begins the file anew. It is kept for good when Close returns nil.
func (s UndoStore) create(ctx context.Context, in *hosting.Account) (io.WriteCloser, error) {
	if s.InAccount {
		if _, err := files.MkdirAll(ctx, in.Files, path.Dir(s.File), 0o700); err != nil {
			return nil, err
		}
		if err := files.Drop(ctx, in.Files, s.File); err != nil {
			return nil, err
		}
		return in.Files.Create(ctx, s.File, 0o600)
	}
	if err := os.MkdirAll(filepath.Dir(s.File), 0o700); err != nil {
		return nil, err
	}
	file, err := os.OpenFile(s.File, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	return synced{file}, nil
}

// synced is a file that is on the disk once it is closed.
type synced struct{ *os.File }

func (f synced) Close() error { return errors.Join(f.Sync(), f.File.Close()) }

// write writes the whole file.
func (s UndoStore) write(ctx context.Context, in *hosting.Account, text []byte) error {
	to, err := s.create(ctx, in)
	if err != nil {
		return err
	}
	_, err = to.Write(text)
	return errors.Join(err, to.Close())
}

// open reads the file; fs.ErrNotExist where there is none.
func (s UndoStore) open(ctx context.Context, in *hosting.Account) (io.ReadCloser, error) {
	if s.InAccount {
		return in.Files.Open(ctx, s.File)
	}
	return os.Open(s.File)
}

// read reads the whole of it; fs.ErrNotExist where there is none.
func (s UndoStore) read(ctx context.Context, in *hosting.Account) ([]byte, error) {
	from, err := s.open(ctx, in)
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(from)
	return text, errors.Join(err, from.Close())
}

// written is when it was written; fs.ErrNotExist where there is none.
func (s UndoStore) written(ctx context.Context, in *hosting.Account) (time.Time, error) {
	if s.InAccount {
		info, err := in.Files.Stat(ctx, s.File)
		return info.Modified, err
	}
	info, err := os.Stat(s.File)
	if err != nil {
		return time.Time{}, err
	}
	return info.ModTime(), nil
}

// there says whether something was kept. What another machine kept for itself is not here to
// be put back, and that nothing is here says nothing.
func (s UndoStore) there(ctx context.Context, t *Tools) (bool, error) {
	_, err := s.written(ctx, t.In)
	if !errors.Is(err, fs.ErrNotExist) {
		return err == nil, err
	}
	host, _ := os.Hostname()
	own := filepath.Dir(s.File) == filepath.Dir(t.shelf("").File) && (s.Host == "" || s.Host == host)
	if !s.InAccount && t.Book.Home.Shared != nil && !own {
		return false, fault.New(fault.Failed, "what the job kept before it changed the site is on another machine", s.File,
			"Undo it on "+s.Host+". If that is no more, restore the site from a backup: "+
				fault.Call("backup", "SITE", "--list"))
	}
	return false, nil
}

// drop takes it away; none there is fine. With the last of a job's its folder goes.
func (s UndoStore) drop(ctx context.Context, in *hosting.Account) error {
	if !s.InAccount {
		return dropHere(s.File)
	}
	if err := files.Drop(ctx, in.Files, s.File); err != nil {
		return err
	}
	folder := path.Dir(s.File)
	return files.DropEmpty(ctx, in.Files, folder, path.Dir(folder))
}

// pack writes the file, packed with Zstandard, whole or not at all.
func (s UndoStore) pack(ctx context.Context, in *hosting.Account, write func(io.Writer) error) error {
	part := s.beside(".part")
	to, err := part.create(ctx, in)
	if err != nil {
		return err
	}
	packed, err := zstd.NewWriter(to, zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err == nil {
		err = errors.Join(write(packed), packed.Close())
	}
	if err := errors.Join(err, to.Close()); err != nil {
		return err
	}
	return part.rename(ctx, in, s)
}

// rename gives it another's name, in the place of what is there.
func (s UndoStore) rename(ctx context.Context, in *hosting.Account, to UndoStore) error {
	if !s.InAccount {
		return os.Rename(s.File, to.File)
	}
	if err := files.Drop(ctx, in.Files, to.File); err != nil {
		return err
	}
	return in.Files.Rename(ctx, s.File, to.File)
}

// unpack reads what was packed.
func (s UndoStore) unpack(ctx context.Context, in *hosting.Account, use func(io.Reader) error) error {
	from, err := s.open(ctx, in)
	if err != nil {
		return err
	}
	defer from.Close()
	plain, err := zstd.NewReader(from)
	if err != nil {
		return err
	}
	defer plain.Close()
	return use(plain)
}
