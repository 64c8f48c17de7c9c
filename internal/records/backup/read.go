package backup

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"

	"tivset/internal/app/archive"
)

// Opener opens a backup's file from its start; it is read more than once.
type Opener func() (io.ReadCloser, error)

// Backup is one that was read through and found whole.
type Backup struct {
	Header
	Summary
	open   Opener
	keys   Keys
	listed manifest
}

// Ours says whether the backup is as the one wrote it who can make this checksum
// of it.
func (b *Backup) Ours(key func([]byte) ([]byte, error)) (bool, error) {
	text, err := json.Marshal(b.listed.Items)
	if err != nil || len(b.listed.Keyed) == 0 {
		return false, err
	}
	sum, err := key(text)
	return err == nil && hmac.Equal(sum, b.listed.Keyed), err
}

// Limits of what a backup says of itself, in bytes and entries.
const (
	longestHeader   = 8 << 20
	longestManifest = 96 << 20
	mostEntries     = 1_000_000
)

// Keys open backups that are encrypted.
type Keys []age.Identity

// ReadKeys reads a file of age's identities.
func ReadKeys(from io.Reader) (Keys, error) {
	keys, err := age.ParseIdentities(from)
	return Keys(keys), err
}

// Same reads what was just written, and compares it with what was to be: the
// file as a whole by its checksum, and that it can be unpacked, by Zstandard's
// own checksum and by the sizes of what is in it.
func Same(ctx context.Context, open Opener, made Summary) error {
	hash := sha256.New()
	b := &Backup{open: func() (io.ReadCloser, error) {
		file, err := open()
		if err != nil {
			return nil, err
		}
		return struct {
			io.Reader
			io.Closer
		}{io.TeeReader(file, hash), file}, nil
	}}
	total := int64(0)
	err := b.each(ctx, func(h *tar.Header, content io.Reader) error {
		n, err := io.Copy(io.Discard, content)
		if h.Name != manifestName {
			total += n
		}
		return err
	})
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return damaged("%v", err)
	}
	if got := hex.EncodeToString(hash.Sum(nil)); got != made.SHA256 || total != made.Bytes {
		return damaged("what was written is not what comes back")
	}
	return nil
}

// ageMark begins what age has encrypted (age's specification, "Header").
const ageMark = "age-encryption.org/v1"

// Open reads a whole backup and compares it with its checksums, before anything
// is done on its strength. Keys open one that is encrypted. Errors match
// ErrDamaged and ErrSealed.
func Open(ctx context.Context, open Opener, keys Keys) (*Backup, error) {
	b := &Backup{open: open, keys: keys}
	var found []*Item
	sums := newSums()
	err := b.each(ctx, func(h *tar.Header, content io.Reader) error {
		if h.Typeflag == tar.TypeDir {
			return nil
		}
		if h.Name == manifestName {
			return json.NewDecoder(io.LimitReader(content, longestManifest)).Decode(&b.listed)
		}
		var header bytes.Buffer
		to := io.Discard
		if h.Name == headerName {
			if h.Size > longestHeader {
				return fmt.Errorf("what it says of itself has %d bytes", h.Size)
			}
			to = &header
		}
		item := &Item{Name: h.Name}
		found = append(found, item)
		var err error
		if item.Bytes, err = sums.copy(to, content, func(sum string) { item.SHA256 = sum }); err != nil {
			return err
		}
		if h.Name == headerName {
			return json.Unmarshal(header.Bytes(), &b.Header)
		}
		b.count(h.Name, item.Bytes)
		return nil
	})
	sums.wait()
	switch {
	case errors.Is(err, ErrSealed) || ctx.Err() != nil:
		return nil, err
	case err != nil:
		return nil, damaged("%v", err)
	case b.Format != Version:
		return nil, damaged("it has format %d, and this program reads %d", b.Format, Version)
	}
	return b, compare(b.listed.Items, found)
}

func (b *Backup) count(name string, n int64) {
	b.Bytes += n
	if strings.HasPrefix(name, data+"/") {
		b.Data += n
		return
	}
	b.Files++
}

func compare(listed, found []*Item) error {
	if len(listed) == 0 {
		return damaged("it is cut short: its list of checksums is missing")
	}
	if len(listed) != len(found) {
		return damaged("it holds %d files, and its list names %d", len(found), len(listed))
	}
	for i, item := range listed {
		if *item != *found[i] {
			return damaged("%s is not what it was when the backup was made", item.Name)
		}
	}
	return nil
}

// parts are what the names in a backup begin with.
var parts = []string{headerName, manifestName, data, Files, Outside}

// each calls use for every entry of the archive.
func (b *Backup) each(ctx context.Context, use func(*tar.Header, io.Reader) error) error {
	file, err := b.open()
	if err != nil {
		return err
	}
	defer file.Close()
	plain, err := b.unseal(bufio.NewReaderSize(file, 256<<10))
	if err != nil {
		return err
	}
	unpacked, err := zstd.NewReader(plain, zstd.WithDecoderConcurrency(2), zstd.WithDecoderLowmem(true),
		zstd.WithDecoderMaxMemory(64<<20))
	if err != nil {
		return err
	}
	defer unpacked.Close()
	t := tar.NewReader(bufio.NewReaderSize(unpacked, 256<<10))
	for n := 0; ; n++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			_, err = io.Copy(io.Discard, unpacked) // up to its own checksum
			return err
		}
		if err != nil {
			return err
		}
		if h.Typeflag != tar.TypeReg && h.Typeflag != tar.TypeDir {
			return fmt.Errorf("%s is neither a file nor a folder", h.Name)
		}
		if n > mostEntries {
			return fmt.Errorf("it holds more than %d files", mostEntries)
		}
		if name := strings.TrimSuffix(h.Name, "/"); !fs.ValidPath(name) || strings.ContainsRune(name, 0) {
			return fmt.Errorf("%q leads out of the backup", h.Name)
		}
		if part, _, _ := strings.Cut(h.Name, "/"); !slices.Contains(parts, part) {
			return fmt.Errorf("%q is no part of a backup", h.Name)
		}
		if err := use(h, t); err != nil {
			return err
		}
	}
}

func (b *Backup) unseal(file *bufio.Reader) (io.Reader, error) {
	begin, err := file.Peek(len(ageMark))
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if string(begin) != ageMark {
		return file, nil
	}
	if len(b.keys) == 0 {
		return nil, ErrSealed
	}
	plain, err := age.Decrypt(file, b.keys...)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSealed, err)
	}
	return plain, nil
}

// errEnough ends the reading of a backup early.
var errEnough = errors.New("enough was read")

// Part gives the files and folders of a part, for archive.Fill.
func (b *Backup) Part(part string) archive.Source {
	return func(ctx context.Context, use func(archive.Entry, io.Reader) error) error {
		return b.each(ctx, func(h *tar.Header, content io.Reader) error {
			name, ours := strings.CutPrefix(strings.TrimSuffix(h.Name, "/"), part+"/")
			if !ours {
				return nil
			}
			return use(archive.Entry{Name: name, Dir: h.Typeflag == tar.TypeDir, Mode: h.FileInfo().Mode().Perm(), Size: h.Size,
				Exact: true}, content)
		})
	}
}

// Has says whether anything of a part is in the backup.
func (b *Backup) Has(ctx context.Context, part string) (bool, error) {
	err := b.Part(part)(ctx, func(archive.Entry, io.Reader) error { return errEnough })
	if errors.Is(err, errEnough) {
		return true, nil
	}
	return false, err
}

// Script gives the database's script. Closing it early is fine.
func (b *Backup) Script(ctx context.Context) io.ReadCloser {
	r, w := io.Pipe()
	go func() {
		err := b.each(ctx, func(h *tar.Header, content io.Reader) error {
			switch {
			case strings.HasPrefix(h.Name, data+"/"):
				_, err := io.Copy(w, content)
				return err
			case strings.HasPrefix(h.Name, Files+"/"):
				return errEnough // the script comes before the files
			}
			return nil
		})
		if errors.Is(err, errEnough) {
			err = nil
		}
		_ = w.CloseWithError(err)
	}()
	return r
}
