package archive

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"os"

	"github.com/klauspost/compress/zstd"
)

// Slow says whether an archive is packed in a way that takes long to unpack: xz and
// bzip2 are made for small downloads.
func Slow(file *os.File) (bool, error) {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return false, err
	}
	magic := make([]byte, 6)
	if _, err := io.ReadFull(file, magic); err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return false, err
	}
	return bytes.HasPrefix(magic, xzMagic) || bytes.HasPrefix(magic, bzip2Magic), nil
}

// Quicken writes what a slow archive holds anew, packed with Zstandard (RFC 8878),
// which is read many times as fast. It bears checksums of its own. More than the
// limits is not unpacked.
func Quicken(ctx context.Context, file *os.File, to io.Writer, limits Limits) error {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	buffered := bufio.NewReaderSize(file, 1<<16)
	magic, err := buffered.Peek(8)
	if err != nil {
		return err
	}
	unpacked, err := decompress(magic, buffered)
	if err != nil {
		return err
	}
	w, err := zstd.NewWriter(to, zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		return err
	}
	_, err = io.CopyBuffer(w, &bounded{ctx: ctx, from: unpacked, left: limits.Bytes + limits.framing()},
		make([]byte, 1<<18))
	return errors.Join(err, w.Close())
}
