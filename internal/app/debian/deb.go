package debian

import (
	"archive/tar"
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strconv"
	"strings"

	"pault.ag/go/debian/control"

	"tivset/internal/app/archive"
)

// deb is a package that is open: what its control file says, and its files.
type deb struct {
	file   *os.File
	fields map[string]string
	data   *tar.Reader
}

// mostOfControl is how much is read of a control file, in bytes.
const mostOfControl = 1 << 20

// openDeb opens a package (deb(5): an ar archive with the members debian-binary, control.tar and data.tar,
// in this order, packed each).
func openDeb(name string) (*deb, error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	d := &deb{file: file}
	if err := d.read(bufio.NewReaderSize(file, 1<<16)); err != nil {
		return nil, errors.Join(fmt.Errorf("%s is no package: %w", name, err), file.Close())
	}
	return d, nil
}

func (d *deb) close() { _ = d.file.Close() }

// read goes as far as the package's files.
func (d *deb) read(in *bufio.Reader) error {
	magic := make([]byte, 8)
	if _, err := io.ReadFull(in, magic); err != nil || string(magic) != "!<arch>\n" {
		return errors.New("it does not begin as an ar archive does")
	}
	for {
		name, size, err := member(in)
		if err != nil {
			return err
		}
		body := io.LimitReader(in, size)
		switch kind, _, _ := strings.Cut(name, ".tar"); kind {
		case "control":
			if err := d.control(body); err != nil {
				return err
			}
		case "data":
			if d.fields == nil {
				return errors.New("it has no control file")
			}
			plain, err := archive.Unpacked(body)
			d.data = tar.NewReader(plain)
			return err
		}
		if _, err := io.Copy(io.Discard, body); err != nil {
			return err
		}
		if size%2 == 1 {
			_, _ = in.Discard(1)
		}
	}
}

// member reads the header of a member (ar(5)): 60 bytes, with the name first and the size at 48.
func member(in io.Reader) (name string, size int64, err error) {
	head := make([]byte, 60)
	if _, err := io.ReadFull(in, head); err != nil {
		return "", 0, fmt.Errorf("it ends before its files: %w", err)
	}
	if string(head[58:]) != "`\n" {
		return "", 0, errors.New("a member has no header")
	}
	size, err = strconv.ParseInt(strings.TrimSpace(string(head[48:58])), 10, 64)
	if err != nil || size < 0 {
		return "", 0, errors.New("a member has no size")
	}
	return strings.TrimSuffix(strings.TrimSpace(string(head[:16])), "/"), size, nil
}

// control reads what the control file says.
func (d *deb) control(body io.Reader) error {
	plain, err := archive.Unpacked(body)
	if err != nil {
		return err
	}
	files := tar.NewReader(plain)
	for {
		h, err := files.Next()
		if err != nil {
			return fmt.Errorf("it has no control file: %w", err)
		}
		if path.Clean(h.Name) != "control" {
			continue
		}
		in, err := control.NewParagraphReader(io.LimitReader(files, mostOfControl), nil)
		if err != nil {
			return err
		}
		said, err := in.Next()
		if err != nil {
			return err
		}
		d.fields = said.Values
		return nil
	}
}
