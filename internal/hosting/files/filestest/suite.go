// Package filestest proves that a way to an account's files keeps the contract
// of package files. Every implementation passes it.
package filestest

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/files"
)

// Run runs the suite; fresh makes an empty account.
func Run(t *testing.T, fresh func(t *testing.T) files.FS) {
	for name, test := range map[string]func(*testing.T, context.Context, files.FS){
		"create and read":        createAndRead,
		"create leaves others":   createLeavesOthers,
		"modes":                  modes,
		"other modes":            otherModes,
		"folders":                folders,
		"list":                   list,
		"rename":                 rename,
		"rename never replaces":  renameNeverReplaces,
		"folder moved meanwhile": folderMovedMeanwhile,
		"remove":                 remove,
		"remove all":             removeAll,
		"remove what is written": removeWhatIsWritten,
		"awkward names":          awkwardNames,
		"names that are none":    namesThatAreNone,
		"cancelled":              cancelled,
		"many at once":           manyAtOnce,
	} {
		t.Run(name, func(t *testing.T) { test(t, context.Background(), fresh(t)) })
	}
}

func read(t *testing.T, ctx context.Context, f files.FS, name string) string {
	t.Helper()
	text, err := files.Read(ctx, f, name, 1<<20)
	require.NoError(t, err)
	return string(text)
}

func write(t *testing.T, ctx context.Context, f files.FS, name, text string) {
	t.Helper()
	require.NoError(t, files.Write(ctx, f, name, []byte(text), 0o644))
}

func createAndRead(t *testing.T, ctx context.Context, f files.FS) {
	write(t, ctx, f, "a.txt", "content")
	assert.Equal(t, "content", read(t, ctx, f, "a.txt"))
	info, err := f.Stat(ctx, "a.txt")
	require.NoError(t, err)
	assert.Equal(t, int64(7), info.Size)
	assert.Equal(t, "a.txt", info.Name)
	assert.False(t, info.IsDir())
	assert.False(t, info.Modified.IsZero())
	_, err = f.Open(ctx, "none")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = f.Stat(ctx, "none/below")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = f.Stat(ctx, "a.txt/below")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = files.Read(ctx, f, "a.txt", 3)
	assert.ErrorContains(t, err, "more than 3 bytes")
}

func createLeavesOthers(t *testing.T, ctx context.Context, f files.FS) {
	write(t, ctx, f, "a", "first")
	_, err := f.Create(ctx, "a", 0o644)
	assert.ErrorIs(t, err, fs.ErrExist)
	assert.Equal(t, "first", read(t, ctx, f, "a"))
	_, err = f.Create(ctx, "none/a", 0o644)
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

func modes(t *testing.T, ctx context.Context, f files.FS) {
	for _, mode := range []fs.FileMode{0o600, 0o640, 0o644, 0o755, 0o666, 0o777} {
		name := fmt.Sprintf("f%o", mode)
		require.NoError(t, files.Write(ctx, f, name, nil, mode))
		info, err := f.Stat(ctx, name)
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode.Perm(), "whatever the umask")
		require.NoError(t, f.Mkdir(ctx, "d"+name, mode|0o100))
		info, err = f.Stat(ctx, "d"+name)
		require.NoError(t, err)
		assert.Equal(t, mode|0o100, info.Mode.Perm())
	}
}

// otherModes are set on what is there, by those who can.
func otherModes(t *testing.T, ctx context.Context, f files.FS) {
	moder, can := f.(files.Moder)
	if !can {
		t.Skip("it sets no modes")
	}
	require.NoError(t, f.Mkdir(ctx, "dir", 0o777))
	write(t, ctx, f, "dir/a.txt", "content")
	for name, mode := range map[string]fs.FileMode{"dir": 0o755, "dir/a.txt": 0o600} {
		require.NoError(t, moder.Chmod(ctx, name, mode))
		info, err := f.Stat(ctx, name)
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode.Perm(), name)
	}
	assert.ErrorIs(t, moder.Chmod(ctx, "none", 0o600), fs.ErrNotExist)
	assert.Error(t, moder.Chmod(ctx, "../x", 0o600))
}

func folders(t *testing.T, ctx context.Context, f files.FS) {
	assert.ErrorIs(t, f.Mkdir(ctx, "a/b", 0o755), fs.ErrNotExist)
	made, err := files.MkdirAll(ctx, f, "a/b/c", 0o755)
	require.NoError(t, err)
	assert.Equal(t, "a", made)
	made, err = files.MkdirAll(ctx, f, "a/b/d", 0o755)
	require.NoError(t, err)
	assert.Equal(t, "a/b/d", made)
	made, err = files.MkdirAll(ctx, f, "a/b", 0o755)
	require.NoError(t, err)
	assert.Empty(t, made)
	assert.ErrorIs(t, f.Mkdir(ctx, "a", 0o755), fs.ErrExist)
	write(t, ctx, f, "file", "")
	_, err = files.MkdirAll(ctx, f, "file", 0o755)
	assert.ErrorIs(t, err, fs.ErrExist)
}

func list(t *testing.T, ctx context.Context, f files.FS) {
	for _, name := range []string{"b", "a", ".c", "d e"} {
		write(t, ctx, f, name, name)
	}
	require.NoError(t, f.Mkdir(ctx, "z", 0o755))
	all, err := f.List(ctx, ".")
	require.NoError(t, err)
	var names []string
	for _, i := range all {
		names = append(names, i.Name)
	}
	assert.Equal(t, []string{".c", "a", "b", "d e", "z"}, names)
	assert.True(t, all[4].IsDir())
	_, err = f.List(ctx, "none")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	count, bytes, err := files.Count(ctx, f, ".", func(name string) bool { return name == "a" })
	require.NoError(t, err)
	assert.Equal(t, 3, count)
	assert.Equal(t, int64(6), bytes)
}

func rename(t *testing.T, ctx context.Context, f files.FS) {
	_, err := files.MkdirAll(ctx, f, "from/inner", 0o755)
	require.NoError(t, err)
	write(t, ctx, f, "from/inner/x", "x")
	require.NoError(t, f.Mkdir(ctx, "to", 0o755))
	require.NoError(t, f.Rename(ctx, "from/inner", "to/outer"))
	assert.Equal(t, "x", read(t, ctx, f, "to/outer/x"))
	there, err := files.Exists(ctx, f, "from/inner")
	require.NoError(t, err)
	assert.False(t, there)
	assert.ErrorIs(t, f.Rename(ctx, "none", "to/none"), fs.ErrNotExist)
}

func renameNeverReplaces(t *testing.T, ctx context.Context, f files.FS) {
	write(t, ctx, f, "a", "a")
	write(t, ctx, f, "b", "b")
	require.NoError(t, f.Mkdir(ctx, "empty", 0o755))
	assert.ErrorIs(t, f.Rename(ctx, "a", "b"), fs.ErrExist)
	assert.ErrorIs(t, f.Rename(ctx, "a", "empty"), fs.ErrExist)
	assert.Equal(t, "b", read(t, ctx, f, "b"))
	assert.Equal(t, "a", read(t, ctx, f, "a"))
}

// What is made at a name lands where the name leads now.
func folderMovedMeanwhile(t *testing.T, ctx context.Context, f files.FS) {
	require.NoError(t, f.Mkdir(ctx, "here", 0o755))
	write(t, ctx, f, "here/one", "1")
	require.NoError(t, f.Rename(ctx, "here", "there"))
	_, err := f.Create(ctx, "here/two", 0o644)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, f.Mkdir(ctx, "here", 0o755))
	write(t, ctx, f, "here/two", "2")
	there, err := files.Exists(ctx, f, "there/two")
	require.NoError(t, err)
	assert.False(t, there)
}

func remove(t *testing.T, ctx context.Context, f files.FS) {
	require.NoError(t, f.Mkdir(ctx, "full", 0o755))
	write(t, ctx, f, "full/x", "")
	assert.Error(t, f.Remove(ctx, "full"))
	require.NoError(t, f.Remove(ctx, "full/x"))
	require.NoError(t, f.Remove(ctx, "full"))
	assert.ErrorIs(t, f.Remove(ctx, "full"), fs.ErrNotExist)
}

func removeAll(t *testing.T, ctx context.Context, f files.FS) {
	_, err := files.MkdirAll(ctx, f, "a/b/c", 0o755)
	require.NoError(t, err)
	write(t, ctx, f, "a/b/x", "")
	require.NoError(t, files.RemoveAll(ctx, f, "a"))
	require.NoError(t, files.RemoveAll(ctx, f, "a"), "nothing there is fine")
	there, err := files.Exists(ctx, f, "a")
	require.NoError(t, err)
	assert.False(t, there)
	// The slow way, without the ability.
	_, err = files.MkdirAll(ctx, f, "s/b/c", 0o755)
	require.NoError(t, err)
	require.NoError(t, files.RemoveAll(ctx, struct{ files.FS }{f}, "s"))
	there, err = files.Exists(ctx, f, "s")
	require.NoError(t, err)
	assert.False(t, there)
}

// removeWhatIsWritten takes a folder away into which a program of the server's still
// writes, as one does whose line was cut.
func removeWhatIsWritten(t *testing.T, ctx context.Context, f files.FS) {
	_, err := files.MkdirAll(ctx, f, "w/b", 0o755)
	require.NoError(t, err)
	var wait sync.WaitGroup
	wait.Go(func() {
		for n, end := 0, time.Now().Add(time.Second); time.Now().Before(end); n++ {
			if files.Write(ctx, f, fmt.Sprintf("w/b/%d", n), nil, 0o644) != nil {
				return
			}
		}
	})
	time.Sleep(50 * time.Millisecond)
	assert.NoError(t, files.RemoveAll(ctx, f, "w"))
	wait.Wait()
	there, err := files.Exists(ctx, f, "w")
	require.NoError(t, err)
	assert.False(t, there)
}

func awkwardNames(t *testing.T, ctx context.Context, f files.FS) {
	for _, name := range []string{"with space", "é–日本🚤", `quote'"`, "$x", "-rf", "a;b", "*?", "...", "a..b",
		`a\b`, "tab\there", "bell\x07", files.Escape("caf\xe9.txt"), files.Escape("\xff\xfe"), files.Escape("\U0010fe80")} {
		write(t, ctx, f, name, name)
		assert.Equal(t, name, read(t, ctx, f, name))
		listed, err := f.List(ctx, ".")
		require.NoError(t, err)
		require.Len(t, listed, 1)
		assert.Equal(t, name, listed[0].Name)
		require.NoError(t, f.Rename(ctx, name, name+"2"))
		require.NoError(t, f.Remove(ctx, name+"2"))
	}
}

func namesThatAreNone(t *testing.T, ctx context.Context, f files.FS) {
	for _, name := range []string{"", "/", "/etc", "..", "../x", "a/../../x", "a//b", "./a", "a/"} {
		_, err := f.Create(ctx, name, 0o644)
		assert.Error(t, err, name)
		_, err = f.Stat(ctx, name)
		assert.Error(t, err, name)
		_, err = f.Open(ctx, name)
		assert.Error(t, err, name)
		_, err = f.List(ctx, name)
		assert.Error(t, err, name)
		assert.Error(t, f.Mkdir(ctx, name, 0o755), name)
		assert.Error(t, f.Remove(ctx, name), name)
		assert.Error(t, f.Rename(ctx, name, "x"), name)
		assert.Error(t, f.Rename(ctx, "x", name), name)
	}
}

func cancelled(t *testing.T, ctx context.Context, f files.FS) {
	ctx, cancel := context.WithCancel(ctx)
	cancel()
	_, err := f.Create(ctx, "a", 0o644)
	assert.ErrorIs(t, err, context.Canceled)
	assert.ErrorIs(t, f.Mkdir(ctx, "a", 0o755), context.Canceled)
}

func manyAtOnce(t *testing.T, ctx context.Context, f files.FS) {
	var wait sync.WaitGroup
	errs := make([]error, 8)
	for n := range errs {
		wait.Go(func() {
			dir := fmt.Sprintf("d%d", n)
			if errs[n] = f.Mkdir(ctx, dir, 0o755); errs[n] != nil {
				return
			}
			for i := range 60 {
				w, err := f.Create(ctx, fmt.Sprintf("%s/f%d", dir, i), 0o644)
				if err == nil {
					_, err = io.WriteString(w, dir)
					_ = w.Close()
				}
				if i%20 == 0 && err == nil {
					err = f.Rename(ctx, fmt.Sprintf("%s/f%d", dir, i), fmt.Sprintf("%s/g%d", dir, i))
				}
				if err != nil {
					errs[n] = err
					return
				}
			}
		})
	}
	wait.Wait()
	for _, err := range errs {
		require.NoError(t, err)
	}
	count, _, err := files.Count(ctx, f, ".", nil)
	require.NoError(t, err)
	assert.Equal(t, 8*60, count)
}
