// Package files is the one way to an account's files, wherever they are.
//
// Names are slash-separated paths from the account's top, cleaned, without a
// leading slash and without ".."; "." is the top itself. Implementations never
// leave the top, not even by a link in the account. Each keeps the contract
// below, which package filestest proves.
package files

import (
	"context"
	"io"
	"io/fs"
	"time"
)

// FS is an account's files. It is safe for use by several goroutines. Errors match fs.ErrNotExist, fs.ErrExist and
// fs.ErrPermission where these words fit.
type FS interface {
	// Stat describes what is at name, a link itself and not what it leads to.
	// fs.ErrNotExist when nothing is there.
	Stat(ctx context.Context, name string) (Info, error)

	// List describes what is in a folder, sorted by name. fs.ErrNotExist when
	// there is no such folder.
	List(ctx context.Context, name string) ([]Info, error)

	// Open reads a file from its start. fs.ErrNotExist when there is none.
	Open(ctx context.Context, name string) (io.ReadCloser, error)

	// Create makes a new file with exactly this mode, whatever the umask, and
	// writes it. The content is complete when Close returns nil. fs.ErrExist
	// when anything is there already, which is left as it was.
	Create(ctx context.Context, name string, mode fs.FileMode) (io.WriteCloser, error)

	// Mkdir makes one folder with exactly this mode. fs.ErrExist when anything
	// is there, fs.ErrNotExist when the folder above is missing.
	Mkdir(ctx context.Context, name string, mode fs.FileMode) error

	// Rename moves a file or folder at once. fs.ErrExist when anything is at
	// the new name, fs.ErrNotExist when nothing is at the old.
	Rename(ctx context.Context, from, to string) error

	// Remove takes away a file, a link or an empty folder. fs.ErrNotExist when
	// nothing is there.
	Remove(ctx context.Context, name string) error
}

// Closer is an account's files, to be closed after use.
type Closer interface {
	FS
	io.Closer
}

// Info describes a file, folder or link.
type Info struct {
	Name     string // the last part of the path
	Mode     fs.FileMode
	Size     int64 // bytes; 0 for what is no file
	Modified time.Time
}

// IsDir says whether it is a folder.
func (i Info) IsDir() bool { return i.Mode.IsDir() }

// TreeRemover is the ability to take away a whole tree in one call.
type TreeRemover interface {
	RemoveAll(ctx context.Context, name string) error
}

// TreeWriter is the ability to write many files as one stream.
type TreeWriter interface {
	// WriteTree unpacks into a folder, which is there, what tarred writes: a tar
	// archive packed with gzip, of plain files and folders. errors.ErrUnsupported
	// when that cannot be done here; then tarred was not called.
	WriteTree(ctx context.Context, folder string, tarred func(io.Writer) error) error
}

// PartWriter is the ability to write many files as several archives, the first
// of which are under way while the next are packed.
type PartWriter interface {
	// WriteParts unpacks into a folder, which is there, what write packs. For
	// each part it opens a writer, writes a tar archive packed with gzip, of
	// plain files and folders, and closes it. Parts may be unpacked in any order.
	WriteParts(ctx context.Context, folder string, write func(open func() (io.WriteCloser, error)) error) error
}

// SpaceTeller is the ability to tell how many bytes are left for the account.
type SpaceTeller interface {
	Free(ctx context.Context) (int64, error)
}

// Parallel is the ability to do many things at a time, over a line whose round
// trips take long.
type Parallel interface {
	// Writers is how many files are best written at a time.
	Writers() int
}

// Moder is the ability to give what is there another mode. errors.ErrUnsupported
// where the server sets none.
type Moder interface {
	Chmod(ctx context.Context, name string, mode fs.FileMode) error
}

// Commander is the ability to run a program in a folder where the files are, as
// the account's user and with arguments that no shell reads. It gives the
// program's output; the error of one that failed holds what it said. The
// program ends with ctx.
type Commander interface {
	Command(ctx context.Context, folder string, args []string, input string) ([]byte, error)
}

// Valid says whether name is one that an FS accepts.
func Valid(name string) error {
	if !fs.ValidPath(name) {
		return &fs.PathError{Op: "use", Path: name, Err: fs.ErrInvalid}
	}
	return nil
}
