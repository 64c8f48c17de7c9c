package kits_test

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/adopt"
	"tivset/internal/work/backup"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/renew"
	"tivset/internal/work/restore"
	"tivset/internal/work/update"
)

// next packs what a release holds once more as another one, with a file more
// and the version changed where the app says it.
func next(t *testing.T, archive, top, from, to string) (file, sum string) {
	t.Helper()
	in, err := os.Open(archive)
	require.NoError(t, err)
	defer in.Close()
	var plain io.Reader
	if strings.HasSuffix(archive, ".xz") {
		plain, err = xz.NewReader(in)
	} else {
		plain, err = gzip.NewReader(in)
	}
	require.NoError(t, err)
	file = filepath.Join(t.TempDir(), "next-"+to+".tar.gz")
	out, err := os.Create(file)
	require.NoError(t, err)
	hash := sha256.New()
	z := gzip.NewWriter(io.MultiWriter(out, hash))
	w := tar.NewWriter(z)
	r := tar.NewReader(plain)
	for {
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		if strings.HasSuffix(h.Name, "/iniset.php") {
			text = bytes.ReplaceAll(text, []byte("'"+from+"'"), []byte("'"+to+"'"))
			h.Size = int64(len(text))
		}
		require.NoError(t, w.WriteHeader(h))
		_, err = w.Write(text)
		require.NoError(t, err)
	}
	news := []byte("What is new in " + to + "\n")
	require.NoError(t, w.WriteHeader(&tar.Header{Name: top + "/NEWS-" + to + ".txt", Mode: 0o644, Size: int64(len(news))}))
	_, err = w.Write(news)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	require.NoError(t, out.Close())
	return file, hex.EncodeToString(hash.Sum(nil))
}

// later adds two releases to a kit: one that works, and one whose migration
// fails.
func (h *grounds) later(t *testing.T, app, archive, top, from, good, bad string) (goodFile, badFile string) {
	t.Helper()
	all := h.source.Files.(fstest.MapFS)
	text := string(all[app+"/kit.yaml"].Data)
	begin := strings.Index(text, "  - release: ")
	one := text[begin : begin+strings.Index(text[begin:], "\n\n")+1]
	goodFile, goodSum := next(t, archive, top, from, good)
	badFile, badSum := next(t, archive, top, from, bad)
	sumLine := one[strings.Index(one, "sha256: "):]
	sumLine = sumLine[:strings.IndexByte(sumLine, '\n')]
	make := func(release, sum string) string {
		return strings.Replace(strings.Replace(one, "release: "+from, "release: "+release, 1), sumLine, "sha256: "+sum, 1)
	}
	text = text[:begin] + make(bad, badSum) + make(good, goodSum) + text[begin:]
	text += "\nupdate:\n  steps:\n    - run-sql: \"UPDATE nowhere SET value = 1\"\n      since: " + bad + "\n"
	all[app+"/kit.yaml"] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	return goodFile, badFile
}

// The whole life of the real apps, on this machine and over SFTP, ends with the
// account as it began.
func TestWholeLifeOfRealApps(t *testing.T) {
	h := newGrounds(t)
	ttGood, ttBad := h.later(t, "tt-rss", h.requests["tt-rss"].Archive, "tt-rss-0.0~git20210204.b4cbc79", "21.2.4",
		"21.2.5", "21.2.6")
	rcGood, rcBad := h.later(t, "roundcube", h.requests["roundcube"].Archive, "roundcube", "1.6.5", "1.6.6", "1.6.7")
	for _, c := range []struct {
		app, engine                          string
		reaches                              []string
		good, goodFile, badFile, change, ask string
	}{
		{"tt-rss", "mariadb", []string{"local", "SFTP"}, "21.2.5", ttGood, ttBad,
			"INSERT INTO ttrss_user_prefs (owner_uid, pref_name, value) VALUES (1, 'DIGEST_PREFERRED_TIME', 's:%d:\"%s\";')",
			"SELECT value FROM ttrss_user_prefs WHERE pref_name = 'DIGEST_PREFERRED_TIME' AND value LIKE 's:%'"},
		{"tt-rss", "postgresql", []string{"local"}, "21.2.5", ttGood, ttBad,
			"INSERT INTO ttrss_user_prefs (owner_uid, pref_name, value) VALUES (1, 'DIGEST_PREFERRED_TIME', 's:%d:\"%s\";')",
			"SELECT value FROM ttrss_user_prefs WHERE pref_name = 'DIGEST_PREFERRED_TIME' AND value LIKE 's:%'"},
		{"roundcube", "sqlite", []string{"local", "SFTP"}, "1.6.6", rcGood, rcBad,
			"UPDATE users SET preferences = 's:%d:\"%s\";'", "SELECT preferences FROM users"},
	} {
		t.Run(c.app+" on "+c.engine, func(t *testing.T) {
			t.Parallel()
			own := newGrounds(t, c.engine)
			own.source = h.source // with the later releases
			for _, reach := range c.reaches {
				t.Run("over "+reach, func(t *testing.T) {
					w := own.world(t, reach, c.engine)
					request := h.requests[c.app]
					request.Release = map[string]string{"tt-rss": "21.2.4", "roundcube": "1.6.5"}[c.app]
					life(t, w, request, c.good, c.goodFile, c.badFile, c.change, c.ask)
				})
			}
		})
	}
}

func life(t *testing.T, w *sitetest.World, request plan.Request, good, goodFile, badFile, change, ask string) {
	ctx, here := context.Background(), t.TempDir()
	begin := w.Snapshot()
	done, err := w.Install(request)
	require.NoError(t, err, fault.Of(err).Details)
	x := done.Site
	stored := func(x ledger.Site) string { return fmt.Sprintf("s:%d:\"%s\";", len(x.URL), x.URL) }
	w.Query(x, fmt.Sprintf(change, len(x.URL), x.URL))
	own := &owner{t: t, w: w}
	own.acts(x.Address)
	kept := slices.Clone(own.uploads)
	made, err := backup.Make(ctx, w.Desk, backup.Request{Site: x.Address, Into: here})
	require.NoError(t, err)
	before := w.Snapshot()

	looked, data := "", "" // a look signs in, of which the app makes a note
	update := func(file string) (*update.Done, error) {
		p, err := update.Look(ctx, w.Desk, update.Request{Site: x.Address,
			Release: map[bool]string{true: good}[file == goodFile], Archive: file, NoBackup: true})
		if err != nil {
			return nil, err
		}
		defer p.Close()
		assert.Empty(t, p.Lost)
		for _, name := range p.Carried {
			assert.Contains(t, name, "/tide", "the owner's plugin")
		}
		looked, data = w.Snapshot(), w.Dump(x)
		return update.Update(ctx, w.Desk, p)
	}
	_, err = update(badFile)
	require.ErrorContains(t, err, "nowhere")
	gone, come := difference(looked, w.Snapshot())
	require.Empty(t, append(gone, come...), "the update was put back")
	require.True(t, data == w.Dump(x), "its database too")
	own.acts(x.Address)
	updated, err := update(goodFile)
	require.NoError(t, err, fault.Of(err).Details)
	assert.Equal(t, good, updated.Site.Release)
	own.right(updated.Site, "updates")
	own.acts(x.Address)
	own.has(x, own.uploads)
	_, err = restore.Restore(ctx, w.Desk, restore.Request{Site: x.Address, From: made.File, NoBackup: true})
	require.NoError(t, err)
	sameFiles(t, before, w.Snapshot(), "it was restored")
	assert.Contains(t, w.Value(x, ask), stored(x))

	own.has(x, kept)
	own.acts(x.Address)
	takenChargeOf(t, w, x)
	own.acts(x.Address)
	kept, before = append(kept, own.uploads[len(own.uploads)-2:]...), w.Snapshot()
	copied := w.Copy(place.Request{Site: x.Address, At: "lockside.localhost/try"})
	assert.Contains(t, w.Value(copied.Site, ask), stored(copied.Site))
	assert.Contains(t, w.Value(x, ask), stored(x))
	own.has(copied.Site, kept)
	own.right(copied.Site, "updates")
	w.Remove(remove.Request{Site: copied.Site.Address, NoBackup: true, WithAdded: true})
	sameFiles(t, before, w.Snapshot(), "the copy went without a trace")
	own.acts(x.Address)
	moved := w.Copy(place.Request{Site: x.Address, At: "lockside.localhost/elsewhere", Move: true})
	assert.Contains(t, w.Value(moved.Site, ask), stored(moved.Site))
	own.has(moved.Site, append(kept, own.uploads[len(own.uploads)-1]))
	own.right(moved.Site, "updates")
	own.acts(moved.Site.Address)
	w.Remove(remove.Request{Site: moved.Site.Address, NoBackup: true, WithAdded: true})
	gone, come = difference(begin, w.Snapshot())
	require.Empty(t, append(gone, come...), "nothing is left")
}

// takenChargeOf gives an app that keeps its passwords a new one, and forgets the
// other and adopts it.
func takenChargeOf(t *testing.T, w *sitetest.World, x ledger.Site) {
	t.Helper()
	ctx := context.Background()
	if x.App == "tt-rss" {
		before, err := w.Book.Reveal(ctx, x.Address)
		require.NoError(t, err)
		after, err := renew.Renew(ctx, w.Desk, x.Address)
		require.NoError(t, err, fault.Of(err).Details)
		assert.NotEqual(t, before.Password.Reveal(), after.Password.Reveal())
		return
	}
	known, err := w.Book.Find(ctx, x.Address)
	require.NoError(t, err)
	require.NoError(t, w.Book.Ledger.DropSite(ctx, x.Address))
	_, err = adopt.Adopt(ctx, w.Desk, adopt.Request{At: x.URL, Answers: map[string]string{"admin.name": mailbox,
		"admin.password": mailboxPassword}})
	require.NoError(t, err, fault.Of(err).Remedy)
	found, err := w.Book.Find(ctx, x.Address)
	require.NoError(t, err)
	assert.Equal(t, known.Database.Name, found.Database.Name)
	assert.Equal(t, known.Entries, found.Entries)
	require.NoError(t, w.Book.Ledger.PutSite(ctx, known))
}

// sameFiles compares all but what the app writes when somebody signs in.
func sameFiles(t *testing.T, before, after, why string) {
	t.Helper()
	gone, come := difference(before, after)
	for _, line := range append(gone, come...) {
		if !strings.Contains(line, ".sqlite") && !strings.Contains(line, "/logs/") {
			t.Errorf("%s: %s", why, line)
		}
	}
}
