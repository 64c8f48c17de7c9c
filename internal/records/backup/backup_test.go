package backup_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/archive"
	"tivset/internal/records/backup"
)

var ctx = context.Background()

// script is longer than one piece.
var script = strings.Repeat("INSERT INTO t VALUES (1);\n", 400_000)

func make1(t *testing.T, to ...string) ([]byte, backup.Summary) {
	t.Helper()
	var out bytes.Buffer
	w, err := backup.NewWriter(&out, backup.Header{Address: "a.localhost", App: "inkreach",
		MadeAt: time.Unix(1760000000, 0), Site: []byte(`{"title":"T"}`)}, to)
	require.NoError(t, err)
	d := w.Data()
	_, err = io.Copy(d, strings.NewReader(script))
	require.NoError(t, err)
	require.NoError(t, d.Close())
	require.NoError(t, w.Folder(backup.Files, "empty", 0o750))
	require.NoError(t, w.File(backup.Files, "a/b.txt", 0o640, 5, strings.NewReader("hello, and more")))
	require.NoError(t, w.File(backup.Files, "none", 0o600, 0, strings.NewReader("")))
	require.NoError(t, w.File(backup.Outside, "x", 0o600, 1, strings.NewReader("x")))
	sum, err := w.Close()
	require.NoError(t, err)
	assert.EqualValues(t, out.Len(), sum.Packed)
	return out.Bytes(), sum
}

func opener(text []byte) backup.Opener {
	return func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text)), nil }
}

func TestComesBack(t *testing.T) {
	text, sum := make1(t)
	require.NoError(t, backup.Same(ctx, opener(text), sum))
	b, err := backup.Open(ctx, opener(text), nil)
	require.NoError(t, err)
	assert.Equal(t, "inkreach", b.App)
	assert.EqualValues(t, len(script), b.Data)
	got := map[string]string{}
	require.NoError(t, b.Part(backup.Files)(ctx, func(e archive.Entry, r io.Reader) error {
		content, err := io.ReadAll(r)
		got[e.Name] = e.Mode.String() + " " + string(content)
		return err
	}))
	assert.Equal(t, map[string]string{"empty": "-rwxr-x--- ", "a/b.txt": "-rw-r----- hello", "none": "-rw------- "}, got)
	again := b.Script(ctx)
	all, err := io.ReadAll(again)
	require.NoError(t, err)
	assert.True(t, script == string(all))
	early := b.Script(ctx)
	_, err = early.Read(make([]byte, 10))
	require.NoError(t, err)
	require.NoError(t, early.Close())
	there, err := b.Has(ctx, backup.Outside)
	require.NoError(t, err)
	assert.True(t, there)
}

// Any tar and zstd open it.
func TestOpenFormat(t *testing.T) {
	text, _ := make1(t)
	folder := t.TempDir()
	file := filepath.Join(folder, "b.tar.zst")
	require.NoError(t, os.WriteFile(file, text, 0o600))
	if out, err := exec.Command("tar", "--zstd", "-C", folder, "-xf", file).CombinedOutput(); err != nil {
		t.Logf("no tar with zstd here: %s", out)
		return
	}
	pieces, err := filepath.Glob(filepath.Join(folder, "data", "*.sql"))
	require.NoError(t, err)
	assert.Len(t, pieces, 3)
	content, err := os.ReadFile(filepath.Join(folder, "files", "a", "b.txt"))
	require.NoError(t, err)
	assert.Equal(t, "hello", string(content))
}

func TestDamaged(t *testing.T) {
	text, sum := make1(t)
	for cut := 0; cut < len(text); cut += len(text)/40 + 1 {
		_, err := backup.Open(ctx, opener(text[:cut]), nil)
		require.ErrorIs(t, err, backup.ErrDamaged, cut)
		require.ErrorIs(t, backup.Same(ctx, opener(text[:cut]), sum), backup.ErrDamaged)
	}
	for at := 0; at < len(text); at += len(text)/40 + 1 {
		altered := append([]byte{}, text...)
		altered[at] ^= 1
		_, err := backup.Open(ctx, opener(altered), nil)
		require.ErrorIs(t, err, backup.ErrDamaged, at)
		require.Error(t, backup.Same(ctx, opener(altered), sum))
	}
	_, err := backup.Open(ctx, func() (io.ReadCloser, error) { return nil, errors.New("away") }, nil)
	assert.Error(t, err)
	w, err := backup.NewWriter(io.Discard, backup.Header{}, nil)
	require.NoError(t, err)
	assert.ErrorContains(t, w.File(backup.Files, "short", 0o600, 10, strings.NewReader("x")), "became shorter")
	w.Drop()
}

func TestSealed(t *testing.T) {
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	text, _ := make1(t, key.Recipient().String())
	_, err = backup.Open(ctx, opener(text), nil)
	require.ErrorIs(t, err, backup.ErrSealed)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	_, err = backup.Open(ctx, opener(text), backup.Keys{other})
	require.ErrorIs(t, err, backup.ErrSealed)
	keys, err := backup.ReadKeys(strings.NewReader("# a comment\n" + key.String() + "\n"))
	require.NoError(t, err)
	b, err := backup.Open(ctx, opener(text), keys)
	require.NoError(t, err)
	assert.Equal(t, "a.localhost", b.Address)
	_, err = backup.NewWriter(io.Discard, backup.Header{}, []string{"nobody"})
	assert.ErrorContains(t, err, "no public key")
}
