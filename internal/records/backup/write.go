package backup

import (
	"archive/tar"
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
)

// Writer writes a backup as a stream: nothing of it is kept in memory but the
// list of what it holds.
type Writer struct {
	out    *counted
	sealed io.WriteCloser // nil when it is not encrypted
	packed *zstd.Encoder
	buffer *bufio.Writer
	tar    *tar.Writer
	items  []*Item
	sums   *sums
	sum    Summary
	at     time.Time
	pieces int

	// Key makes a checksum that binds the backup to whoever can make it again; nil
	// for none.
	Key func([]byte) ([]byte, error)
}

// counted counts and sums up what goes through.
type counted struct {
	io.Writer
	bytes int64
	hash  hash.Hash
}

func (c *counted) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	c.bytes += int64(n)
	c.hash.Write(p[:n])
	return n, err
}

// NewWriter begins a backup. Recipients are age's (age1…); with any, only their
// keys open the backup.
func NewWriter(to io.Writer, h Header, recipients []string) (*Writer, error) {
	w := &Writer{out: &counted{Writer: to, hash: sha256.New()}, at: h.MadeAt, sums: newSums()}
	under := io.Writer(w.out)
	if len(recipients) > 0 {
		keys, err := Recipients(recipients)
		if err != nil {
			return nil, err
		}
		if w.sealed, err = age.Encrypt(under, keys...); err != nil {
			return nil, err
		}
		under = w.sealed
	}
	var err error
	if w.packed, err = zstd.NewWriter(under, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2),
		zstd.WithWindowSize(1<<20)); err != nil {
		return nil, err
	}
	w.buffer = bufio.NewWriterSize(w.packed, 256<<10)
	w.tar = tar.NewWriter(w.buffer)
	h.Format = Version
	text, err := json.MarshalIndent(h, "", "  ")
	if err != nil {
		return nil, err
	}
	return w, w.add(headerName, 0o600, bytes.NewReader(append(text, '\n')), int64(len(text)+1))
}

// Recipients reads age's public keys.
func Recipients(texts []string) ([]age.Recipient, error) {
	var out []age.Recipient
	for _, t := range texts {
		r, err := age.ParseX25519Recipient(t)
		if err != nil {
			return nil, fmt.Errorf("%q is no public key of age: %w", t, err)
		}
		out = append(out, r)
	}
	return out, nil
}

// Folder adds an empty folder, or one whose mode matters, to a part.
func (w *Writer) Folder(part, name string, mode fs.FileMode) error {
	return w.tar.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: path.Join(part, name) + "/",
		Mode: int64(mode.Perm()), ModTime: w.at, Format: tar.FormatPAX})
}

// File adds a file of a size to a part. Content that turns out shorter is an
// error, and what is beyond the size is left out.
func (w *Writer) File(part, name string, mode fs.FileMode, size int64, content io.Reader) error {
	if err := w.add(path.Join(part, name), mode, io.LimitReader(content, size), size); err != nil {
		return err
	}
	w.sum.Files++
	return nil
}

func (w *Writer) add(name string, mode fs.FileMode, content io.Reader, size int64) error {
	if err := w.tar.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: int64(mode.Perm()), Size: size,
		ModTime: w.at, Format: tar.FormatPAX}); err != nil {
		return err
	}
	item := &Item{Name: name, Bytes: size}
	w.items = append(w.items, item)
	n, err := w.sums.copy(w.tar, content, func(sum string) { item.SHA256 = sum })
	if err != nil {
		return err
	}
	if n < size {
		return fmt.Errorf("%s became shorter while it was read", name)
	}
	w.sum.Bytes += size
	return nil
}

// Drop ends a backup that was not finished.
func (w *Writer) Drop() { w.sums.wait() }

// Data takes the database's script; Close ends it.
func (w *Writer) Data() io.WriteCloser { return &pieces{w: w} }

// pieces cuts a script into files.
type pieces struct {
	w       *Writer
	waiting []byte
}

func (p *pieces) Write(text []byte) (int, error) {
	if p.waiting == nil {
		p.waiting = make([]byte, 0, pieceBytes)
	}
	all := len(text)
	for len(text) > 0 {
		n := min(len(text), pieceBytes-len(p.waiting))
		p.waiting, text = append(p.waiting, text[:n]...), text[n:]
		if len(p.waiting) == pieceBytes {
			if err := p.flush(); err != nil {
				return 0, err
			}
		}
	}
	return all, nil
}

func (p *pieces) flush() error {
	p.w.pieces++
	size := int64(len(p.waiting))
	err := p.w.add(fmt.Sprintf("%s/%04d.sql", data, p.w.pieces), 0o600, bytes.NewReader(p.waiting), size)
	p.w.sum.Data += size
	p.waiting = p.waiting[:0]
	return err
}

func (p *pieces) Close() error {
	if len(p.waiting) == 0 && p.w.pieces > 0 {
		return nil
	}
	return p.flush()
}

// Close writes the manifest and ends the backup.
func (w *Writer) Close() (Summary, error) {
	w.sums.wait()
	m := manifest{Items: w.items}
	text, err := json.Marshal(m.Items)
	if err == nil && w.Key != nil {
		m.Keyed, err = w.Key(text)
	}
	if err != nil {
		return w.sum, err
	}
	if text, err = json.Marshal(m); err != nil {
		return w.sum, err
	}
	if err := w.tar.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: manifestName, Mode: 0o600, Size: int64(len(text)),
		ModTime: w.at, Format: tar.FormatPAX}); err != nil {
		return w.sum, err
	}
	if _, err := w.tar.Write(text); err != nil {
		return w.sum, err
	}
	err = errors.Join(w.tar.Close(), w.buffer.Flush(), w.packed.Close())
	if w.sealed != nil {
		err = errors.Join(err, w.sealed.Close())
	}
	w.sum.Packed, w.sum.SHA256 = w.out.bytes, hex.EncodeToString(w.out.hash.Sum(nil))
	return w.sum, err
}
