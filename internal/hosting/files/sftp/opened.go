package sftp

import (
	"cmp"
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"sync"

	"github.com/pkg/sftp"
)

// sure asks the server, while the caller goes on, whether the file that was opened is where its name says: a program on
// the site may exchange a folder for a link between the look and the opening, and back again after it. What it gives
// waits for the answer; nothing that was read is to be given to anybody, and nothing is to be written, before.
//
// SFTP opens by names only, so that this is no proof. The questions of a round go out together, and the server answers
// them one right after the other; who wants to deceive has to exchange the folder in the midst of each round. Who signs
// in as root reaches what is not the account's: there it is two rounds, of which each asks twice. Looked is the file as
// it was before it was opened, nil for one that is new.
func (l *line) sure(file *sftp.File, name string, looked fs.FileInfo) func() error {
	answer := make(chan error, 1)
	go func() {
		if !l.root {
			answer <- l.isThere(file, name, looked, 1)
			return
		}
		answer <- cmp.Or(l.isThere(file, name, nil, 2), l.isThere(file, name, nil, 2))
	}()
	return sync.OnceValue(func() error {
		err := <-answer
		if err != nil {
			l.forget()
		}
		return plain("open", name, err)
	})
}

// isThere is a round of questions. Looked is what the file has to be, nil where the server is asked for that too.
func (l *line) isThere(file *sftp.File, name string, looked fs.FileInfo, times int) error {
	var asked sync.WaitGroup
	var is fs.FileInfo
	there, errs := make([]fs.FileInfo, times), make([]error, 1+2*times)
	asked.Go(func() { is, errs[0] = file.Stat() })
	for n := range times {
		asked.Go(func() { errs[1+2*n] = l.inPlace(name) })
		if there[n] = looked; looked == nil {
			asked.Go(func() { there[n], errs[2+2*n] = l.sftp.Lstat(l.full(name)) })
		}
	}
	asked.Wait()
	if err := cmp.Or(errs...); err != nil {
		return err
	}
	if slices.ContainsFunc(there, func(t fs.FileInfo) bool { return !same(t, is) }) {
		return errors.New("another file took its place while it was opened")
	}
	return nil
}

// inPlace says no where a name leads out of the account.
func (l *line) inPlace(name string) error {
	real, err := l.sftp.RealPath(l.full(name))
	if err == nil && !l.within(path.Dir(real)) {
		return errLeadsOut
	}
	return err
}

// same compares what a server tells of a file, SFTP has no number of it: one may be given another mode, or time, or
// grow meanwhile, and not another owner.
func same(a, b fs.FileInfo) bool {
	x, ok := a.Sys().(*sftp.FileStat)
	y, also := b.Sys().(*sftp.FileStat)
	return ok && also && x.UID == y.UID && x.GID == y.GID && a.Mode().Type() == b.Mode().Type()
}

// reading is a file that is being read.
type reading struct {
	file *sftp.File
	sure func() error
}

func (r *reading) Read(p []byte) (int, error) {
	n, err := r.file.Read(p)
	if sureErr := r.sure(); sureErr != nil {
		return 0, sureErr
	}
	return n, err
}

// WriteTo implements io.WriterTo: several pieces are asked for at a time.
func (r *reading) WriteTo(w io.Writer) (int64, error) {
	if err := r.sure(); err != nil {
		return 0, err
	}
	return r.file.WriteTo(w)
}

func (r *reading) Close() error {
	_ = r.sure() // the answer belongs to the open file
	return r.file.Close()
}
