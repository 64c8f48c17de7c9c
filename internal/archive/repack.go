package archive

import (
	"archive/tar"
	"bufio"
	"context"
	"errors"
	"io"
	"os"
	"path"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
)

// repack writes what Unpack would write as a clean tar archive, packed with
// gzip: only plain files and folders, in names and modes of our own, so that
// whatever unpacks it has nothing to be careful about.
func repack(ctx context.Context, file *os.File, top string, skip []string, to io.Writer, progress func(files int, bytes int64)) error {
	plain, packed := io.Pipe()
	compressed := make(chan error, 1)
	go func() { // beside the reading of the archive, which decompresses
		err := compress(plain, to)
		_ = plain.CloseWithError(err)
		compressed <- err
	}()
	buffered := bufio.NewWriterSize(packed, 256<<10)
	err := retar(ctx, file, top, skip, buffered, progress)
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

func retar(ctx context.Context, file *os.File, top string, skip []string, to io.Writer, progress func(int, int64)) error {
	out := tar.NewWriter(to)
	made := map[string]bool{".": true}
	count, bytes := 0, int64(0)
	err := Walk(ctx, file, top, DefaultLimits, func(e Entry, content io.Reader) error {
		if Skipped(e.Name, skip) {
			return nil
		}
		dir := e.Name
		if !e.Dir {
			dir = path.Dir(e.Name)
		}
		if err := tarFolders(out, dir, made); err != nil || e.Dir {
			return err
		}
		if err := out.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: e.Name, Mode: int64(e.mode()), Size: e.Size, ModTime: time.Now()}); err != nil {
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
	return errors.Join(err, out.Close())
}

// tarFolders writes a folder and those above it, each once.
func tarFolders(out *tar.Writer, dir string, made map[string]bool) error {
	for i, parts := 1, strings.Split(dir, "/"); i <= len(parts); i++ {
		name := strings.Join(parts[:i], "/")
		if made[name] {
			continue
		}
		made[name] = true
		if err := out.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: name + "/", Mode: 0o755, ModTime: time.Now()}); err != nil {
			return err
		}
	}
	return nil
}
