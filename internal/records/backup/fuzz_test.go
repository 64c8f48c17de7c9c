package backup_test

import (
	"bytes"
	"io"
	"io/fs"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/archive"
	"tivset/internal/records/backup"
)

// FuzzOpen reads what somebody packed in a backup's place: all errors are errors, and no name leads anywhere.
func FuzzOpen(f *testing.F) {
	var small bytes.Buffer
	w, err := backup.NewWriter(&small, backup.Header{Address: "a.localhost", App: "inkreach", Site: []byte(`{}`)}, nil)
	require.NoError(f, err)
	require.NoError(f, w.File(backup.Files, "a/b.txt", 0o640, 2, bytes.NewReader([]byte("hi"))))
	_, err = w.Close()
	require.NoError(f, err)
	unpacked, err := zstd.NewReader(&small)
	require.NoError(f, err)
	tarred, err := io.ReadAll(unpacked)
	require.NoError(f, err)
	f.Add(tarred)
	packer, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, tarred []byte) {
		b, err := backup.Open(ctx, opener(packer.EncodeAll(tarred, nil)), nil)
		if err != nil {
			return
		}
		for _, part := range []string{backup.Files, backup.Outside} {
			_ = b.Part(part)(ctx, func(e archive.Entry, content io.Reader) error {
				require.True(t, fs.ValidPath(e.Name), "%q", e.Name)
				_, err := io.Copy(io.Discard, content)
				return err
			})
		}
		script := b.Script(ctx)
		_, _ = io.Copy(io.Discard, io.LimitReader(script, 1<<20))
		require.NoError(t, script.Close())
	})
}
