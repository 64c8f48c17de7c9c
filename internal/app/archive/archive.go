// Package archive reads the archives that apps come in: tar (plain, gzip,
// bzip2, xz, Zstandard) and zip, told apart by their first bytes.
//
// An archive is somebody else's: entries that lead out of the folder, links,
// devices, doubled names and sizes beyond all measure are refused while
// reading, before anything of them is written.
package archive

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/therootcompany/xz"
)

// Entry is a file or folder in an archive.
type Entry struct {
	Name string // below the top folder, clean
	Dir  bool
	Mode fs.FileMode // permission bits only, never set-user-id and the like
	Size int64

	Time  time.Time // when it was last changed, as the archive says
	Exact bool      // it comes from the account itself, and keeps its mode
}

// Limits bound what an archive may hold, what is passed over included.
type Limits struct {
	Entries int
	Bytes   int64 // unpacked
}

// framing is what a tar archive may have around its files: headers and padding
// for each entry (POSIX.1-2017, pax).
func (l Limits) framing() int64 { return int64(l.Entries)*4<<10 + 1<<20 }

// DefaultLimits are far beyond what any app needs.
var DefaultLimits = Limits{Entries: 200_000, Bytes: 8 << 30}

// ErrHostile matches every archive that was refused for what is in it.
var ErrHostile = errors.New("the archive is not safe")

func hostile(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrHostile, fmt.Sprintf(format, args...))
}

// Walk calls each for every entry below the folder top ("" for all), in the
// order of the archive. The reader is the entry's content, good until each
// returns.
func Walk(ctx context.Context, file *os.File, top string, limits Limits, each func(Entry, io.Reader) error) error {
	w := &walk{top: strings.Trim(top, "/"), limits: limits, seen: map[string]bool{}, each: each}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	buffered := bufio.NewReaderSize(file, 1<<16)
	magic, err := buffered.Peek(8)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if bytes.HasPrefix(magic, []byte("PK\x03\x04")) {
		err = w.zip(ctx, file)
	} else {
		var unpacked io.Reader
		if unpacked, err = decompress(magic, buffered); err == nil {
			// Whatever the headers say, and wherever it belongs: no more is unpacked.
			err = w.tar(ctx, &bounded{ctx: ctx, from: unpacked, left: limits.Bytes + limits.framing()})
		}
	}
	if err == nil && len(w.seen) == 0 {
		return hostile("nothing is in it below %q", top)
	}
	return err
}

// Unpacked gives what a stream holds that may be packed in any of these ways, told by its first bytes.
func Unpacked(r io.Reader) (io.Reader, error) {
	buffered := bufio.NewReaderSize(r, 1<<16)
	magic, err := buffered.Peek(8)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return decompress(magic, buffered)
}

func decompress(magic []byte, r io.Reader) (io.Reader, error) {
	switch {
	case bytes.HasPrefix(magic, []byte{0x1f, 0x8b}):
		return gzip.NewReader(r)
	case bytes.HasPrefix(magic, xzMagic):
		return xz.NewReader(r, 0)
	case bytes.HasPrefix(magic, bzip2Magic):
		return bzip2.NewReader(r), nil
	case bytes.HasPrefix(magic, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		// One at a time needs no goroutines that would have to be ended.
		return zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(64<<20))
	}
	return r, nil
}

var (
	xzMagic    = []byte("\xfd7zXZ\x00")
	bzip2Magic = []byte("BZh")
)

type walk struct {
	top    string
	limits Limits
	seen   map[string]bool
	count  int
	bytes  int64
	each   func(Entry, io.Reader) error
}

func (w *walk) tar(ctx context.Context, r io.Reader) error {
	t := tar.NewReader(r)
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("read the archive: %w", err)
		}
		switch h.Typeflag {
		case tar.TypeReg, tar.TypeDir:
			if err := w.entry(ctx, h.Name, h.FileInfo().Mode(), h.Size, h.ModTime, t); err != nil {
				return err
			}
		case tar.TypeXGlobalHeader:
		default:
			return hostile("%q is a link or a device", h.Name)
		}
	}
}

func (w *walk) zip(ctx context.Context, file *os.File) error {
	info, err := file.Stat()
	if err != nil {
		return err
	}
	if err := w.fewEnough(ctx, file); err != nil {
		return err
	}
	z, err := zip.NewReader(file, info.Size())
	if err != nil {
		return fmt.Errorf("read the archive: %w", err)
	}
	for _, f := range z.File {
		if err := ctx.Err(); err != nil {
			return err
		}
		if m := f.Mode(); !m.IsDir() && !m.IsRegular() {
			return hostile("%q is a link or a device", f.Name)
		}
		content, err := f.Open()
		if err != nil {
			return fmt.Errorf("read the archive: %w", err)
		}
		err = w.entry(ctx, f.Name, f.Mode(), int64(f.UncompressedSize64), f.Modified, content)
		content.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// zipEntry is what each line of a zip's index begins with (APPNOTE.TXT, 4.3.12).
var zipEntry = []byte("PK\x01\x02")

// fewEnough counts the lines of a zip's index before any is kept: reading it keeps all of them at once.
func (w *walk) fewEnough(ctx context.Context, file *os.File) error {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	count, kept := 0, 0
	for buffer := make([]byte, 1<<20); ; {
		n, err := file.Read(buffer[kept:])
		held := buffer[:kept+n]
		if count += bytes.Count(held, zipEntry); count > w.limits.Entries {
			return hostile("it holds more than %d entries", w.limits.Entries)
		}
		kept = copy(buffer, held[max(0, len(held)-len(zipEntry)+1):]) // one may lie across two reads
		switch {
		case errors.Is(err, io.EOF):
			return ctx.Err()
		case err != nil:
			return err
		case ctx.Err() != nil:
			return ctx.Err()
		}
	}
}

// entry checks one entry and passes it on.
func (w *walk) entry(ctx context.Context, name string, mode fs.FileMode, size int64, at time.Time,
	content io.Reader) error {
	clean := strings.TrimSuffix(strings.TrimPrefix(name, "./"), "/")
	if clean == "" || clean == "." {
		return nil
	}
	if !fs.ValidPath(clean) || strings.ContainsAny(clean, "\\\x00") {
		return hostile("%q leads out of its folder", name)
	}
	w.count++
	if size < 0 || size > w.limits.Bytes-w.bytes || w.count > w.limits.Entries {
		return hostile("it holds more than %d entries or %d bytes", w.limits.Entries, w.limits.Bytes)
	}
	w.bytes += size
	inside, below := strings.CutPrefix(clean, w.top+"/")
	if w.top != "" {
		if !below {
			return nil
		}
		clean = inside
	}
	if w.seen[clean] {
		if mode.IsDir() {
			return nil
		}
		return hostile("%q is in it twice", name)
	}
	w.seen[clean] = true
	e := Entry{Name: clean, Dir: mode.IsDir(), Mode: mode.Perm(), Size: size, Time: at}
	// The size in a zip's index is a claim; the content is held to it.
	counted := &exact{ctx: ctx, Reader: content, left: size}
	if err := w.each(e, counted); err != nil {
		return err
	}
	if counted.left < 0 {
		return hostile("%q is larger than it says", name)
	}
	return nil
}

// bounded reads no more than it may, and ends with its context.
type bounded struct {
	ctx  context.Context
	from io.Reader
	left int64
}

func (b *bounded) Read(p []byte) (int, error) {
	if err := b.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := b.from.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return 0, hostile("more is in it than an app can have")
	}
	return n, err
}

// exact errs when more comes than was announced, and ends with its context.
type exact struct {
	io.Reader
	ctx  context.Context
	left int64
}

func (e *exact) Read(p []byte) (int, error) {
	if err := e.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := e.Reader.Read(p)
	if e.left -= int64(n); e.left < 0 {
		return 0, hostile("an entry is larger than it says")
	}
	return n, err
}

// Verify compares a file's SHA-256 with the one expected, in hexadecimal.
func Verify(file io.Reader, expected string) error {
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return err
	}
	if got := hex.EncodeToString(sum.Sum(nil)); !strings.EqualFold(got, expected) {
		return fmt.Errorf("the checksum is %s, expected %s", got, expected)
	}
	return nil
}
