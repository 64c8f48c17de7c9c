package command

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/records/vault"
)

// call is a command as it lies on the queue, sealed: its words, and the files of the machine
// where it was typed that go with it.
type call struct {
	Words []string   `json:"words"`
	Files []callFile `json:"files,omitempty"`
}

// callFile is a file of a call: the word that ends with its name.
type callFile struct {
	Word   int    `json:"word"`
	Before string `json:"before"` // what of the word comes before the name
	Name   string `json:"name"`
	SHA256 string `json:"sha256"`
}

// mostPacked is how large a file may be that goes with an order.
const mostPacked = 512 << 20

// partBytes is how much of a file is sealed at a time.
const partBytes = 4 << 20

// fileOptions name files that are read.
var fileOptions = []string{"--answers=", "--archive=", "--identity=", "--from="}

// fileIn is where in a word the name of a file of this machine begins; 0 for none.
func fileIn(word string) int {
	if rest, is := strings.CutPrefix(word, "--answer="); is {
		id, value, _ := strings.Cut(rest, "=")
		if strings.HasPrefix(value, "@") && !strings.HasPrefix(value, "@@") {
			return len("--answer=" + id + "=@")
		}
		return 0
	}
	for _, option := range fileOptions {
		if strings.HasPrefix(word, option) {
			// a backup may be named that lies in the account
			if info, err := os.Stat(word[len(option):]); option == "--from=" && (err != nil || !info.Mode().IsRegular()) {
				return 0
			}
			return len(option)
		}
	}
	return 0
}

// files are those of an order, open.
type files []*os.File

func (f files) close() {
	for _, one := range f {
		_ = one.Close()
	}
}

// packed takes the files into a call that its words name.
func packed(words []string) (c call, open files, err error) {
	c.Words = words
	for n, word := range words {
		at := fileIn(word)
		if at == 0 {
			continue
		}
		if word[at:] == "-" {
			open.close()
			return c, nil, fault.New(fault.Usage, "standard input cannot go to the queue", word, "Name a file.")
		}
		file, sum, err := readable(word[at:])
		if err != nil {
			open.close()
			return c, nil, err
		}
		open = append(open, file)
		c.Files = append(c.Files, callFile{n, word[:at], filepath.Base(word[at:]), sum})
	}
	return c, open, nil
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

// unpacked gives the words of a call, with its files on this machine until done.
func unpacked(c call, p team.Place, parts queue.Parts) (words []string, done func(), err error) {
	if len(c.Files) == 0 {
		return c.Words, func() {}, nil
	}
	folder, err := os.MkdirTemp("", "tivset-order-")
	if err != nil {
		return nil, nil, err
	}
	done = func() { _ = os.RemoveAll(folder) }
	if err = unpack(c, folder, p, parts); err != nil {
		done()
		return nil, nil, err
	}
	for n, f := range c.Files {
		c.Words[f.Word] = f.Before + fileOf(folder, n, f)
	}
	return c.Words, done, nil
}

func fileOf(folder string, n int, f callFile) string {
	return filepath.Join(folder, fmt.Sprintf("%d-%s", n, filepath.Base(f.Name)))
}

func unpack(c call, folder string, p team.Place, parts queue.Parts) error {
	for n, f := range c.Files {
		if f.Word < 0 || f.Word >= len(c.Words) {
			return errors.New("the order is not as it was put there")
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
		file, sum, err := readable(fileOf(folder, n, f))
		if err != nil {
			return err
		}
		_ = file.Close()
		if sum != f.SHA256 {
			return fault.New(fault.NeedsConfirmation, "a file of the order is not what was put there", f.Name,
				"It was not carried out. See who can write into the database.")
		}
	}
	return nil
}

// readCall reads what was sealed: older releases sealed the words alone.
func readCall(text []byte) (c call, err error) {
	if json.Unmarshal(text, &c.Words) == nil {
		return c, nil
	}
	return c, json.Unmarshal(text, &c)
}
