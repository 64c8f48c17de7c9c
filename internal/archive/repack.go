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
	// A compressor gives some hundred bytes at a time, and each write is a
	// packet on the line.
	buffered := bufio.NewWriterSize(to, 256<<10)
	packed, err := gzip.NewWriterLevel(buffered, gzip.BestSpeed)
	if err != nil {
		return err
	}
	out := tar.NewWriter(packed)
	made := map[string]bool{".": true}
	count, bytes := 0, int64(0)
	err = Walk(ctx, file, top, DefaultLimits, func(e Entry, content io.Reader) error {
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
	return errors.Join(err, out.Close(), packed.Close(), buffered.Flush())
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
