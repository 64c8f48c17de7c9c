package archive

import (
	"archive/tar"
	"bufio"
	"context"
	"errors"
	"io"
	"path"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"

	"tivset/internal/hosting/files"
)

// repack writes what Unpack would write as a clean tar archive, packed with
// gzip: only plain files and folders, in names and modes of our own, so that
// whatever unpacks it has nothing to be careful about.
func repack(ctx context.Context, from Source, to io.Writer, progress func(files int, bytes int64)) error {
	plain, packed := io.Pipe()
	compressed := make(chan error, 1)
	go func() { // beside the reading of the archive, which decompresses
		err := compress(plain, to)
		_ = plain.CloseWithError(err)
		compressed <- err
	}()
	buffered := bufio.NewWriterSize(packed, 256<<10)
	err := retar(ctx, from, buffered, progress)
	if err == nil {
		err = buffered.Flush()
	}
	_ = packed.CloseWithError(err)
	return errors.Join(err, <-compressed)
}

// compress packs what it reads with gzip, fast. A compressor gives some hundred
// bytes at a time, and each write is a packet on the line.
func compress(from io.Reader, to io.Writer) error {
	buffered := bufio.NewWriterSize(to, 256<<10)
	packed, err := gzip.NewWriterLevel(buffered, gzip.BestSpeed)
	if err != nil {
		return err
	}
	_, err = io.CopyBuffer(struct{ io.Writer }{packed}, from, make([]byte, 256<<10))
	return errors.Join(err, packed.Close(), buffered.Flush())
}

func retar(ctx context.Context, from Source, to io.Writer, progress func(int, int64)) error {
	out := tar.NewWriter(to)
	err := retarInto(ctx, from, func(int64) (*tar.Writer, error) { return out, nil }, progress)
	return errors.Join(err, out.Close())
}

// partBytes is about how many bytes, before packing, one part of several has.
const partBytes = 6 << 20

// repackParts does what repack does, into several archives.
func repackParts(ctx context.Context, from Source, open func() (io.WriteCloser, error),
	progress func(int, int64)) error {
	var p *part
	err := retarInto(ctx, from, func(size int64) (*tar.Writer, error) {
		if p != nil && p.bytes > 0 && p.bytes+size > partBytes {
			if err := p.close(); err != nil {
				return nil, err
			}
			p = nil
		}
		if p == nil {
			to, err := open()
			if err != nil {
				return nil, err
			}
			if p, err = newPart(to); err != nil {
				return nil, err
			}
		}
		p.bytes += size
		return p.tar, nil
	}, progress)
	if p != nil {
		err = errors.Join(err, p.close())
	}
	return err
}

// part is one archive of several.
type part struct {
	to     io.WriteCloser
	buffer *bufio.Writer
	packed *gzip.Writer
	tar    *tar.Writer
	bytes  int64
}

func newPart(to io.WriteCloser) (*part, error) {
	p := &part{to: to, buffer: bufio.NewWriterSize(to, 256<<10)}
	var err error
	if p.packed, err = gzip.NewWriterLevel(p.buffer, gzip.BestSpeed); err != nil {
		return nil, err
	}
	p.tar = tar.NewWriter(p.packed)
	return p, nil
}

func (p *part) close() error {
	return errors.Join(p.tar.Close(), p.packed.Close(), p.buffer.Flush(), p.to.Close())
}

// retarInto writes each entry to the archive that into gives for its size.
func retarInto(ctx context.Context, from Source, into func(size int64) (*tar.Writer, error),
	progress func(int, int64)) error {
	made := map[string]bool{".": true}
	count, bytes := 0, int64(0)
	return from(ctx, func(e Entry, content io.Reader) error {
		out, err := into(e.Size)
		if err != nil {
			return err
		}
		dir := e.Name
		if !e.Dir {
			dir = path.Dir(e.Name)
		}
		if e.Dir && e.Exact && !made[dir] {
			made[dir] = true
			return out.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: files.Raw(dir) + "/",
				Mode: int64(e.mode()), ModTime: time.Now(), Format: formatOf(dir)})
		}
		if err := tarFolders(out, dir, made); err != nil || e.Dir {
			return err
		}
		if err := out.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: files.Raw(e.Name), Mode: int64(e.mode()),
			Size: e.Size, ModTime: time.Now(), Format: formatOf(e.Name)}); err != nil {
			return err
		}
		if _, err := io.Copy(out, content); err != nil {
			return err
		}
		count, bytes = count+1, bytes+e.Size
		if progress != nil {
			progress(count, bytes)
		}
		return nil
	})
}

// formatOf is the form of a name in a tar archive: one whose bytes are no text stands there as it is (GNU tar); records
// of the other form are text.
func formatOf(name string) tar.Format {
	if files.Raw(name) != name {
		return tar.FormatGNU
	}
	return tar.FormatUnknown
}

// tarFolders writes a folder and those above it, each once.
func tarFolders(out *tar.Writer, dir string, made map[string]bool) error {
	for i, parts := 1, strings.Split(dir, "/"); i <= len(parts); i++ {
		name := strings.Join(parts[:i], "/")
		if made[name] {
			continue
		}
		made[name] = true
		if err := out.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: files.Raw(name) + "/", Mode: 0o755,
			ModTime: time.Now(), Format: formatOf(name)}); err != nil {
			return err
		}
	}
	return nil
}
