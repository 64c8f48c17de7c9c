package plan_test

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/release"
	"tivset/internal/fault"
	"tivset/internal/testing/sitetest"
)

// fetched has Inkreach come as a file that its owner fetches, and gives the file as a site
// of the app's packs it anew: with the same files and one more.
func fetched(t *testing.T, w *sitetest.World, change func(h *tar.Header, text []byte) []byte) string {
	t.Helper()
	dir := filepath.Join(w.Demo.Folder, "demo/catalogue/inkreach")
	name := filepath.Join(dir, "kit.yaml")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(name, regexp.MustCompile(`from: (inkreach-1\.4\.0\.tar\.gz)`).ReplaceAll(text,
		[]byte("name: $1, fetch: download it")), 0o644))
	in, err := os.Open(filepath.Join(dir, "inkreach-1.4.0.tar.gz"))
	require.NoError(t, err)
	defer in.Close()
	plain, err := gzip.NewReader(in)
	require.NoError(t, err)
	out, err := os.Create(filepath.Join(t.TempDir(), "inkreach.tgz"))
	require.NoError(t, err)
	packed := gzip.NewWriter(out)
	to := tar.NewWriter(packed)
	for from := tar.NewReader(plain); ; {
		h, err := from.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		text, err := io.ReadAll(from)
		require.NoError(t, err)
		text = change(h, text)
		h.Size = int64(len(text))
		require.NoError(t, to.WriteHeader(h))
		_, err = to.Write(text)
		require.NoError(t, err)
	}
	require.NoError(t, to.WriteHeader(&tar.Header{Name: "inkreach-1.4.0/notes.txt", Mode: 0o644, Size: 5}))
	_, err = io.WriteString(to, "notes")
	require.NoError(t, err)
	require.NoError(t, errors.Join(to.Close(), packed.Close(), out.Close()))
	return out.Name()
}

func asItIs(_ *tar.Header, text []byte) []byte { return text }

// An archive that its owner fetched and whose checksum the kit does not know is the
// owner's to accept; the ledger remembers it, and the site is compared with it from then
// on.
func TestArchiveThatTheKitDoesNotKnow(t *testing.T) {
	w := sitetest.Demo(t)
	file := fetched(t, w, asItIs)
	request := sitetest.Request("inkreach", "lockside.localhost/journal")
	_, err := w.Install(request)
	require.ErrorContains(t, err, "has to be fetched by you")
	before := w.Snapshot()
	request.Archive = file
	_, err = w.Install(request)
	f := fault.Of(err)
	require.Equal(t, fault.NeedsConfirmation, f.Kind, "%v", err)
	var u *release.Unknown
	require.ErrorAs(t, err, &u)
	assert.Equal(t, "1.4.0", u.Says)
	assert.Contains(t, f.Remedy, "--accept-archive "+u.Sum)
	assert.Contains(t, strings.Join(f.Details, "\n"), "by its marks it is 1.4.0")
	sitetest.Same(t, before, w.Snapshot())
	request.AcceptArchive = strings.Repeat("0", 64)
	_, err = w.Install(request)
	require.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind, "another one was accepted")

	request.AcceptArchive = u.Sum
	done, err := w.Install(request)
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Equal(t, u.Sum, done.Site.Archive)
	looked, err := w.Examiner.Check(context.Background(), done.Site)
	require.NoError(t, err)
	assert.Empty(t, looked.Added, "it is compared with what it was made of")
	assert.Empty(t, looked.Changed)

	again := sitetest.Request("inkreach", "lockside.localhost/again")
	again.Archive = file
	_, err = w.Install(again)
	require.NoError(t, err, "it was accepted before: %v", fault.Of(err))
}

// An archive that is another release by its marks, or none of the app's, is refused
// whatever is accepted.
func TestArchiveOfAnotherRelease(t *testing.T) {
	for words, change := range map[string]func(*tar.Header, []byte) []byte{
		"by its marks it is 1.9.0": func(h *tar.Header, text []byte) []byte {
			if strings.HasSuffix(h.Name, "lib/release.txt") {
				return []byte("1.9.0\n")
			}
			return text
		},
		"that is no archive of Inkreach": func(h *tar.Header, text []byte) []byte {
			h.Name = strings.Replace(h.Name, "lib/release.txt", "lib/other.txt", 1)
			return text
		},
	} {
		w := sitetest.Demo(t)
		request := sitetest.Request("inkreach", "lockside.localhost/journal")
		request.Archive = fetched(t, w, change)
		_, err := w.Install(request)
		require.ErrorContains(t, err, words)
		assert.Equal(t, fault.Usage, fault.Of(err).Kind)
	}
}
