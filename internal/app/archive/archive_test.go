package archive_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"tivset/internal/app/archive"
	"tivset/internal/hosting/files/local"
)

type entry struct {
	name string
	kind byte
	text string
	mode int64
	link string
}

func tarOf(t testing.TB, entries ...entry) []byte {
	t.Helper()
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, e := range entries {
		if e.mode == 0 {
			e.mode = 0o644
		}
		require.NoError(t, w.WriteHeader(&tar.Header{Name: e.name, Typeflag: e.kind, Size: int64(len(e.text)), Mode: e.mode,
			Linkname: e.link}))
		_, err := io.WriteString(w, e.text)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func open(t testing.TB, content []byte) *os.File {
	t.Helper()
	name := filepath.Join(t.TempDir(), "a")
	require.NoError(t, os.WriteFile(name, content, 0o600))
	f, err := os.Open(name)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return f
}

func pack(t *testing.T, how string, plain []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	var w io.WriteCloser
	switch how {
	case "gzip":
		w = gzip.NewWriter(&out)
	case "xz":
		x, err := xz.NewWriter(&out)
		require.NoError(t, err)
		w = x
	default:
		return plain
	}
	_, err := w.Write(plain)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

var good = []entry{
	{name: "app-1/", kind: tar.TypeDir, mode: 0o700}, {name: "app-1/index.php", kind: tar.TypeReg, text: "hello"},
	{name: "./app-1/bin/run", kind: tar.TypeReg, text: "#!", mode: 0o4755},
	{name: "app-1/docs/x", kind: tar.TypeReg, text: "no"},
	{name: "app-1/big", kind: tar.TypeReg, text: strings.Repeat("0123456789", 50_000)},
	{name: "other/x", kind: tar.TypeReg, text: "x"},
}

func TestUnpack(t *testing.T) {
	ctx := context.Background()
	for _, how := range []string{"plain", "gzip", "xz", "quickened"} {
		file := open(t, pack(t, strings.Replace(how, "quickened", "xz", 1), tarOf(t, good...)))
		slow, err := archive.Slow(file)
		require.NoError(t, err)
		assert.Equal(t, how == "xz" || how == "quickened", slow)
		if how == "quickened" {
			var out bytes.Buffer
			require.NoError(t, archive.Quicken(ctx, file, &out, archive.DefaultLimits))
			large := open(t, pack(t, "xz", tarOf(t, entry{name: "x", kind: tar.TypeReg, text: strings.Repeat("0", 3<<20)})))
			require.ErrorIs(t, archive.Quicken(ctx, large, io.Discard, archive.Limits{Entries: 1, Bytes: 1 << 20}),
				archive.ErrHostile)
			file = open(t, out.Bytes())
		}
		s, err := archive.Look(ctx, file, "app-1", []string{"docs"}, archive.DefaultLimits)
		require.NoError(t, err)
		assert.Equal(t, 3, s.Files)
		assert.Equal(t, int64(500_007), s.Bytes)
		assert.Equal(t, []string{"big", "bin", "index.php"}, s.Entries)

		top := t.TempDir()
		f, err := local.Open(top)
		require.NoError(t, err)
		defer f.Close()
		require.NoError(t, os.Mkdir(filepath.Join(top, "to"), 0o755))
		last := 0
		require.NoError(t, archive.Unpack(ctx, file, "app-1/", []string{"docs/"}, f, "to", func(n int, _ int64) { last = n }))
		assert.Equal(t, 3, last)
		text, err := os.ReadFile(filepath.Join(top, "to/big"))
		require.NoError(t, err)
		assert.Len(t, text, 500_000)
		info, err := os.Stat(filepath.Join(top, "to/bin/run"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o755), info.Mode(), "executable, and no set-user-id")
		assert.NoDirExists(t, filepath.Join(top, "to/docs"))
		assert.Error(t, archive.Unpack(ctx, file, "app-1", nil, f, "to", nil), "nothing is written over")
	}
}

func TestZip(t *testing.T) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, name := range []string{"app/a.txt", "app/b/c.txt"} {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = w.Write([]byte(name))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	s, err := archive.Look(context.Background(), open(t, out.Bytes()), "app", nil, archive.DefaultLimits)
	require.NoError(t, err)
	assert.Equal(t, map[string]int64{"a.txt": 9, "b/c.txt": 11}, s.Sizes)
}

func TestHostile(t *testing.T) {
	for name, entries := range map[string][]entry{
		"climbs":         {{name: "app/../../etc/passwd", kind: tar.TypeReg}},
		"absolute":       {{name: "/etc/passwd", kind: tar.TypeReg}},
		"backslash":      {{name: `app\..\x`, kind: tar.TypeReg}},
		"symbolic link":  {{name: "app/x", kind: tar.TypeSymlink, link: "/etc/passwd"}},
		"hard link":      {{name: "app/x", kind: tar.TypeLink, link: "/etc/passwd"}},
		"device":         {{name: "app/x", kind: tar.TypeChar}},
		"pipe":           {{name: "app/x", kind: tar.TypeFifo}},
		"twice":          {{name: "app/x", kind: tar.TypeReg}, {name: "app/x", kind: tar.TypeReg}},
		"nothing inside": {{name: "other/x", kind: tar.TypeReg}},
		"too much":       {{name: "app/x", kind: tar.TypeReg, text: strings.Repeat("x", 2000)}},
		"too many": {{name: "app/1", kind: tar.TypeReg}, {name: "app/2", kind: tar.TypeReg},
			{name: "app/3", kind: tar.TypeReg}, {name: "app/4", kind: tar.TypeReg}},
	} {
		_, err := archive.Look(context.Background(), open(t, tarOf(t, entries...)), "app", nil,
			archive.Limits{Entries: 3, Bytes: 1000})
		assert.ErrorIs(t, err, archive.ErrHostile, name)
	}
}

// What lies outside of the app's folder counts too, though it is passed over; and
// no entry is so long that the program cannot be stopped in it.
func TestPassedOverCounts(t *testing.T) {
	long := tarOf(t, entry{name: "app/x", kind: tar.TypeReg, text: "x"},
		entry{name: "other/long", kind: tar.TypeReg, text: strings.Repeat("\x00", 64<<20)})
	for _, packed := range []string{"gzip", "xz"} {
		file := open(t, pack(t, packed, long))
		_, err := archive.Look(context.Background(), file, "app", nil, archive.Limits{Entries: 10, Bytes: 1 << 20})
		assert.ErrorIs(t, err, archive.ErrHostile, packed)
		ctx, cancel := context.WithCancel(context.Background())
		began := time.Now()
		err = archive.Walk(ctx, file, "app", archive.DefaultLimits, func(archive.Entry, io.Reader) error {
			cancel() // the long entry comes after this one
			return nil
		})
		require.ErrorIs(t, err, context.Canceled, packed)
		assert.Less(t, time.Since(began), 200*time.Millisecond, packed)
	}
	for _, many := range []string{"other", "app"} {
		var entries []entry
		for n := range 12 {
			entries = append(entries, entry{name: fmt.Sprintf("%s/%d", many, n), kind: tar.TypeReg})
		}
		_, err := archive.Look(context.Background(), open(t, tarOf(t, entries...)), "app", nil,
			archive.Limits{Entries: 10, Bytes: 1 << 20})
		assert.ErrorIs(t, err, archive.ErrHostile, many)
	}
}

func TestDamaged(t *testing.T) {
	whole := pack(t, "gzip", tarOf(t, good...))
	for _, content := range [][]byte{nil, []byte("hello"), whole[:len(whole)/2], []byte("PK\x03\x04xxxx"), {0x1f, 0x8b}} {
		_, err := archive.Look(context.Background(), open(t, content), "app-1", nil, archive.DefaultLimits)
		assert.Error(t, err)
	}
}

func TestVerify(t *testing.T) {
	const sum = "2CF24DBA5FB0A30E26E83B2AC5B9E29E1B161E5C1FA7425E73043362938B9824"
	assert.NoError(t, archive.Verify(strings.NewReader("hello"), sum))
	assert.ErrorContains(t, archive.Verify(strings.NewReader("hellO"), sum), "the checksum is")
}

func FuzzLook(f *testing.F) {
	f.Add(tarOf(f, good...))
	f.Add([]byte("PK\x03\x04"))
	f.Fuzz(func(t *testing.T, content []byte) {
		s, err := archive.Look(context.Background(), open(t, content), "", nil, archive.Limits{Entries: 100, Bytes: 1 << 20})
		if err != nil {
			return
		}
		for name := range s.Sizes {
			if strings.HasPrefix(name, "/") || strings.Contains("/"+name+"/", "/../") {
				t.Fatal(name)
			}
		}
	})
}

// A zip of millions of entries is refused before its index is kept.
func TestEndlessIndex(t *testing.T) {
	name := filepath.Join(t.TempDir(), "many.zip")
	file, err := os.Create(name)
	require.NoError(t, err)
	defer file.Close()
	z := zip.NewWriter(file)
	const entries = 60_000
	for n := range entries {
		_, err := z.CreateHeader(&zip.FileHeader{Name: strconv.Itoa(n)})
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	err = archive.Walk(context.Background(), file, "", archive.Limits{Entries: 1000, Bytes: 1 << 20},
		func(archive.Entry, io.Reader) error { return nil })
	runtime.ReadMemStats(&after)
	assert.ErrorContains(t, err, "it holds more than 1000 entries")
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(8<<20))
	require.NoError(t, archive.Walk(context.Background(), file, "", archive.Limits{Entries: entries, Bytes: 1 << 20},
		func(archive.Entry, io.Reader) error { return nil }))
}
