package archive

import (
	"context"
	"io"
	"io/fs"
	"os"
	"path"

	"tivset/internal/files"
)

// Unpack writes what is below top in the archive into a folder of an account,
// which must be there. Files get 0644 (0755 when the archive has them
// executable) and folders 0755: what an archive says beyond that is a matter
// of the machine it was packed on. Progress, if not nil, is called with the
// files and bytes written so far.
func Unpack(ctx context.Context, file *os.File, top string, skip []string, to files.FS, folder string, progress func(files int, bytes int64)) error {
	made := map[string]bool{".": true, "": true}
	mkdir := func(dir string) error {
		if made[dir] {
			return nil
		}
		_, err := files.MkdirAll(ctx, to, path.Join(folder, dir), 0o755)
		made[dir] = err == nil
		return err
	}
	buffer := make([]byte, 1<<17)
	count, written := 0, int64(0)
	return Walk(ctx, file, top, DefaultLimits, func(e Entry, content io.Reader) error {
		if Skipped(e.Name, skip) {
			return nil
		}
		if e.Dir {
			return mkdir(e.Name)
		}
		if err := mkdir(path.Dir(e.Name)); err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if e.Mode&0o100 != 0 {
			mode = 0o755
		}
		w, err := to.Create(ctx, path.Join(folder, e.Name), mode)
		if err != nil {
			return err
		}
		if _, err := io.CopyBuffer(onlyWriter{w}, onlyReader{content}, buffer); err != nil {
			w.Close()
			return err
		}
		if err := w.Close(); err != nil {
			return err
		}
		count, written = count+1, written+e.Size
		if progress != nil {
			progress(count, written)
		}
		return nil
	})
}

// onlyWriter and onlyReader hide shortcuts of the types inside, which would
// allocate a buffer a file.
type onlyWriter struct{ io.Writer }
type onlyReader struct{ io.Reader }
