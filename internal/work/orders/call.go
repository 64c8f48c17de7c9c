// Package orders puts requests on a team's queue, sealed, with the files that they name; and carries out
// what others put there. What it does not trust: the database.
package orders

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"tivset/internal/fault"
	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/records/vault"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
)

// call is a request as it lies on the queue, sealed, with the files of the machine where it was made that go
// with it.
type call struct {
	requests.Written
	Files []callFile `json:"files,omitempty"`
}

// callFile is a file of a call: which of those that the request names.
type callFile struct {
	Of     int    `json:"of"`
	Name   string `json:"name"`
	SHA256 string `json:"sha256"`
}

// mostPacked is how large a file may be that goes with an order.
const mostPacked = 512 << 20

// partBytes is how much of a file is sealed at a time.
const partBytes = 4 << 20

// files are those of an order, open.
type files []*os.File

func (f files) close() {
	for _, one := range f {
		_ = one.Close()
	}
}

// packed gives the text of a request, and the files that it names.
func packed(r batch.Request) (text []byte, open files, err error) {
	var c call
	if c.Written, err = requests.Write(r); err != nil {
		return nil, nil, err
	}
	for n, f := range requests.Files(r) {
		name := *f.Name
		if info, err := os.Stat(name); name == "" || f.May && (err != nil || !info.Mode().IsRegular()) {
			continue
		}
		var file *os.File
		sum := ""
		if name == "-" {
			err = fault.New(fault.Usage, "standard input cannot go to the queue", "", "Name a file.")
		} else {
			file, sum, err = readable(name)
		}
		if err != nil {
			open.close()
			return nil, nil, err
		}
		open = append(open, file)
		c.Files = append(c.Files, callFile{n, filepath.Base(name), sum})
	}
	text, err = json.Marshal(c)
	return text, open, err
}

// readable opens a file and reads it once, for its checksum.
func readable(name string) (*os.File, string, error) {
	cannot := func(err error) error {
		return fault.New(fault.Usage, "the file cannot be read", name, "Check its name.").Wrap(err)
	}
	file, err := os.Open(name)
	if err != nil {
		return nil, "", cannot(err)
	}
	sum := sha256.New()
	n, err := io.Copy(sum, io.LimitReader(file, mostPacked+1))
	if err == nil && n > mostPacked {
		err = errors.New("it is larger than 512 MB")
	}
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		_ = file.Close()
		return nil, "", cannot(err)
	}
	return file, hex.EncodeToString(sum.Sum(nil)), nil
}

// parts seals the files, a part after the other.
func (f files) parts(v *vault.Vault) queue.Parts {
	if len(f) == 0 {
		return nil
	}
	return func(add func(file int, sealed []byte) error) error {
		part := make([]byte, partBytes)
		for n, file := range f {
			for {
				got, err := io.ReadFull(file, part)
				if got == 0 && errors.Is(err, io.EOF) {
					break
				}
				if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
					return err
				}
				sealed, err := v.SealBytes(part[:got])
				if err == nil {
					err = add(n, sealed)
				}
				if err != nil {
					return err
				}
			}
		}
		return nil
	}
}

// unpacked gives the request of a call, with its files on this machine until done.
func unpacked(text []byte, p team.Place, parts queue.Parts) (r batch.Request, done func(), err error) {
	var c call
	if err := json.Unmarshal(text, &c); err != nil {
		return nil, nil, err
	}
	if r, err = c.Read(); err != nil {
		return nil, nil, err
	}
	if len(c.Files) == 0 {
		return r, func() {}, nil
	}
	folder, err := os.MkdirTemp("", "tivset-order-")
	if err != nil {
		return nil, nil, err
	}
	done = func() { _ = os.RemoveAll(folder) }
	if err = c.unpack(requests.Files(r), folder, p, parts); err != nil {
		done()
		return nil, nil, err
	}
	return r, done, nil
}

func fileOf(folder string, n int, f callFile) string {
	return filepath.Join(folder, fmt.Sprintf("%d-%s", n, filepath.Base(f.Name)))
}

// unpack writes the files of a call into a folder, compares them, and has the request name them there.
func (c call) unpack(named []requests.File, folder string, p team.Place, parts queue.Parts) error {
	for n, f := range c.Files {
		if f.Of < 0 || f.Of >= len(named) {
			return errors.New("the request is not as it was put there")
		}
		if err := os.WriteFile(fileOf(folder, n, f), nil, 0o600); err != nil {
			return err
		}
	}
	err := parts(func(n int, sealed []byte) error {
		if n < 0 || n >= len(c.Files) {
			return nil
		}
		text, err := p.Vault.UnsealBytes(sealed)
		if err != nil {
			return err
		}
		to, err := os.OpenFile(fileOf(folder, n, c.Files[n]), os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		_, err = to.Write(text)
		return errors.Join(err, to.Close())
	})
	if err != nil {
		return err
	}
	for n, f := range c.Files {
		name := fileOf(folder, n, f)
		file, sum, err := readable(name)
		if err != nil {
			return err
		}
		_ = file.Close()
		if sum != f.SHA256 {
			return fault.New(fault.NeedsConfirmation, "a file of the request is not what was put there", f.Name,
				"It was not carried out. See who can write into the database.")
		}
		*named[f.Of].Name = name
	}
	return nil
}
