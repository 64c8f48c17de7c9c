package ftp_test

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/ftp"
	"tivset/internal/standin/ftpd"
)

func sum(said map[string]int) (all int) {
	for _, n := range said {
		all += n
	}
	return all
}

// filled writes n files into a folder of the account, as somebody else.
func filled(t *testing.T, folder string, n int) {
	t.Helper()
	require.NoError(t, os.MkdirAll(folder, 0o755))
	for i := range n {
		require.NoError(t, os.WriteFile(filepath.Join(folder, fmt.Sprintf("f%d", i)), []byte("x"), 0o644))
	}
}

// While a site is closed its files are moved one by one: what is known of other folders
// is not asked for again.
func TestMovesAskLittle(t *testing.T) {
	for name, odd := range map[string]ftpd.Oddities{"facts": {}, "no facts": {NoFacts: true}} {
		t.Run(name, func(t *testing.T) {
			home := t.TempDir()
			s := standin(t, home, odd)
			f := open(t, login(s, false), nothing(t), "/")
			filled(t, filepath.Join(home, "stage"), 12)
			filled(t, filepath.Join(home, "web"), 0)
			s.Commands()
			for i := range 10 {
				require.NoError(t, f.Rename(ctx, fmt.Sprintf("stage/f%d", i), fmt.Sprintf("web/f%d", i)))
			}
			said := s.Commands()
			assert.LessOrEqual(t, sum(said), 25, "%v", said)
			assert.LessOrEqual(t, said["LIST"]+said["MLSD"], 2)
			require.NoError(t, os.WriteFile(filepath.Join(home, "web/f10"), []byte("somebody's"), 0o644))
			for _, known := range []string{"web/f0", "web/f1"} {
				assert.ErrorIs(t, f.Rename(ctx, "stage/f11", known), fs.ErrExist)
			}
			require.NoError(t, f.Remove(ctx, "web/f1"))
			require.NoError(t, f.Rename(ctx, "stage/f11", "web/f1"), "a name that became free can be had at once")
		})
	}
}

// Files of one folder are read with one listing of it, and each change of ours is seen in it.
func TestReadingListsOnce(t *testing.T) {
	home := t.TempDir()
	s := standin(t, home, ftpd.Oddities{})
	f := open(t, login(s, false), nothing(t), "/")
	filled(t, filepath.Join(home, "web/uploads"), 200)
	s.Commands()
	list, err := files.Tree(ctx, f, "web/uploads", nil)
	require.NoError(t, err)
	read := 0
	require.NoError(t, files.ReadAll(ctx, f, list, func(_ files.Found, content io.Reader) error {
		read++
		_, err := io.Copy(io.Discard, content)
		return err
	}))
	assert.Equal(t, 200, read)
	said := s.Commands()
	assert.LessOrEqual(t, said["LIST"], 3, "one of the folder, and those on the way to it: %v", said)
	assert.Equal(t, 1, said["MLSD"])

	require.NoError(t, f.Remove(ctx, "web/uploads/f1"))
	_, err = f.Open(ctx, "web/uploads/f1")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, os.WriteFile(filepath.Join(home, "web/uploads/later"), []byte("new"), 0o644))
	text, err := files.Read(ctx, f, "web/uploads/later", 10)
	require.NoError(t, err, "what is not in the listing is looked for")
	assert.Equal(t, "new", string(text))
}

// What moved away is not there any more, whatever was known of what was below it.
func TestWhatMovedIsForgotten(t *testing.T) {
	home := t.TempDir()
	f := open(t, login(standin(t, home, ftpd.Oddities{}), false), nothing(t), "/")
	require.NoError(t, f.Mkdir(ctx, "a", 0o755))
	require.NoError(t, f.Mkdir(ctx, "a/b", 0o755))
	require.NoError(t, files.Write(ctx, f, "a/b/file", []byte("x"), 0o644))
	require.NoError(t, f.Rename(ctx, "a", "z"))
	_, err := f.Create(ctx, "a/b/file", 0o644)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = f.Create(ctx, "z/b/file", 0o644)
	assert.ErrorIs(t, err, fs.ErrExist)
	require.NoError(t, f.Mkdir(ctx, "a", 0o755))
	_, err = f.Open(ctx, "a/b/file")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, os.Symlink(t.TempDir(), filepath.Join(home, "a/b")))
	_, err = f.Create(ctx, "a/b/file", 0o644)
	assert.ErrorContains(t, err, "link")
}

// A connection that idled for too long says nothing of what was asked for over it: what is there
// then is somebody else's.
func TestAStaleConnection(t *testing.T) {
	home := t.TempDir()
	s := standin(t, home, ftpd.Oddities{})
	f := open(t, login(s, false), nothing(t), "/")
	require.NoError(t, os.Mkdir(filepath.Join(home, "theirs"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(home, "there"), []byte("theirs"), 0o644))
	for name, call := range map[string]func(*ftp.FS) error{
		"make":   func(f *ftp.FS) error { return f.Mkdir(ctx, "theirs", 0o755) },
		"move":   func(f *ftp.FS) error { return f.Rename(ctx, "missing", "there") },
		"remove": func(f *ftp.FS) error { return f.Remove(ctx, "missing") },
	} {
		s.Drop()
		err := call(f)
		want := fs.ErrNotExist
		if name == "make" {
			want = fs.ErrExist
		}
		assert.ErrorIs(t, err, want, name)
	}
	text, err := os.ReadFile(filepath.Join(home, "there"))
	require.NoError(t, err)
	assert.Equal(t, "theirs", string(text))
}

// A connection that is lost after the server did what it was told, and before it said so: it is done.
func TestDoneBeforeTheConnectionWasLost(t *testing.T) {
	home := t.TempDir()
	s := standin(t, home, ftpd.Oddities{})
	f := open(t, login(s, false), nothing(t), "/")
	filled(t, home, 2)
	for verb, call := range map[string]func() error{
		"MKD":  func() error { return f.Mkdir(ctx, "made", 0o755) },
		"RNTO": func() error { return f.Rename(ctx, "f0", "moved") },
		"DELE": func() error { return f.Remove(ctx, "f1") },
	} {
		s.Be(ftpd.Oddities{LoseAfter: verb})
		s.Drop()
		require.NoError(t, call(), verb)
	}
	assert.DirExists(t, filepath.Join(home, "made"))
	assert.FileExists(t, filepath.Join(home, "moved"))
	assert.NoFileExists(t, filepath.Join(home, "f1"))
}

// A server cannot fill the memory with a listing.
func TestEndlessListing(t *testing.T) {
	home := t.TempDir()
	filled(t, home, 2000)
	s := standin(t, home, ftpd.Oddities{EndlessListing: true})
	f := open(t, login(s, false), nothing(t), "/")
	_, err := f.List(ctx, ".")
	assert.ErrorContains(t, err, "a listing of more than 64 MB")
	assert.Less(t, s.Listed(), int64(80<<20), "it was not read on")
}

// A file that could not be written is not taken for one that is there.
func TestANameThatStaysFree(t *testing.T) {
	home := t.TempDir()
	f := open(t, login(standin(t, home, ftpd.Oddities{}), false), nothing(t), "/")
	require.NoError(t, f.Mkdir(ctx, "busy", 0o755))
	w, err := f.Create(ctx, "busy/part", 0o644)
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(home, "busy"))) // another job found it empty
	require.ErrorIs(t, w.Close(), fs.ErrNotExist)
	require.NoError(t, os.Mkdir(filepath.Join(home, "busy"), 0o755))
	require.NoError(t, files.Write(ctx, f, "busy/part", nil, 0o644))
}

// Of two jobs that set the same mark one finds that of the other, however short ago that came, and whatever
// it has seen itself of the folder.
func TestMarksOfOthersAreSeenAtOnce(t *testing.T) {
	s := standin(t, t.TempDir(), ftpd.Oddities{})
	one, other := open(t, login(s, false), nothing(t), "/"), open(t, login(s, false), nothing(t), "/")
	require.NoError(t, one.Mkdir(ctx, "busy", 0o755))
	for n := range 6 {
		mark := fmt.Sprintf("busy/%d.json", n)
		for name, f := range map[string]*ftp.FS{"one": one, "other": other} {
			_, err := f.List(ctx, "busy")
			require.NoError(t, err)
			require.NoError(t, files.Write(ctx, f, "busy/"+name+mark[5:], []byte(name), 0o600))
		}
		require.NoError(t, one.Rename(ctx, "busy/one"+mark[5:], mark))
		assert.ErrorIs(t, other.Rename(ctx, "busy/other"+mark[5:], mark), fs.ErrExist)
		_, err := other.Create(ctx, mark, 0o600)
		assert.ErrorIs(t, err, fs.ErrExist)
		text, err := files.Read(ctx, other, mark, 10)
		require.NoError(t, err)
		assert.Equal(t, "one", string(text))
	}
}
