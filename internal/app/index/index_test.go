package index_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"aead.dev/minisign"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/index"
	"tivset/internal/app/kit"
	"tivset/internal/demo"
	"tivset/internal/fault"
)

// publisher is somebody who publishes a folder of kits.
type publisher struct {
	t            *testing.T
	kits, folder string
	key          index.PrivateKey
	now          time.Time
}

func newPublisher(t *testing.T) *publisher {
	t.Helper()
	_, key, err := minisign.GenerateKey(rand.Reader)
	require.NoError(t, err)
	p := &publisher{t, t.TempDir(), t.TempDir(), key, time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)}
	require.NoError(t, demo.WriteCatalogue(p.kits))
	return p
}

func (p *publisher) kit(app string) *kit.Kit {
	p.t.Helper()
	k, err := kit.Read(catalogue.Folder("", filepath.Join(p.kits, app)).Files, app)
	require.NoError(p.t, err)
	return k
}

func (p *publisher) publish(apps []string, without ...string) *index.Published {
	p.t.Helper()
	doing := index.Publishing{Folder: p.folder, Key: p.key, Now: p.now, Valid: 30 * 24 * time.Hour, Without: without}
	for _, app := range apps {
		doing.Kits = append(doing.Kits, p.kit(app))
	}
	done, err := index.Publish(doing)
	require.NoError(p.t, err, "%v", fault.Of(err))
	return done
}

// change has a kit say something else.
func (p *publisher) change(app, summary string) {
	p.t.Helper()
	name := filepath.Join(p.kits, app, "kit.yaml")
	text, err := os.ReadFile(name)
	require.NoError(p.t, err)
	lines := strings.SplitAfter(string(text), "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, "summary:") {
			lines[i] = "summary: " + summary + "\n"
		}
	}
	require.NoError(p.t, os.WriteFile(name, []byte(strings.Join(lines, "")), 0o644))
}

// shelf is an owner's machine that follows the publisher; served counts what is asked for.
func (p *publisher) shelf(client *http.Client, from string) *index.Shelf {
	return &index.Shelf{Name: "millpond", From: from, Key: p.key.Public().(index.PublicKey), Folder: p.t.TempDir(),
		Client: client, Now: func() time.Time { return p.now }}
}

// serve serves the publisher's folder over https, and counts what is asked for.
func (p *publisher) serve() (*index.Shelf, *[]string) {
	var asked []string
	s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.URL.Path)
		http.FileServer(http.Dir(p.folder)).ServeHTTP(w, r)
	}))
	p.t.Cleanup(s.Close)
	return p.shelf(s.Client(), s.URL), &asked
}

func open(t *testing.T, s *index.Shelf, app string) (summary string, withheld, err error) {
	t.Helper()
	folder, withheld, err := s.Open(app)
	if err != nil {
		return "", withheld, err
	}
	k, err := kit.Read(folder, app)
	require.NoError(t, err)
	return k.Summary, withheld, nil
}

// Packing gives the same bytes wherever and whenever it is done; what an editor or git
// left is not packed.
func TestPackingIsTheSameEverywhere(t *testing.T) {
	one, other := newPublisher(t), newPublisher(t)
	require.NoError(t, os.WriteFile(filepath.Join(other.kits, "willowbench/kit.yaml~"), []byte("old"), 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(other.kits, "willowbench/.git/objects"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(other.kits, "willowbench/.git/objects/x"), []byte("x"), 0o600))
	require.NoError(t, os.Chmod(filepath.Join(other.kits, "willowbench/kit.yaml"), 0o600))
	a, err := index.Pack(one.kit("willowbench").Files())
	require.NoError(t, err)
	b, err := index.Pack(other.kit("willowbench").Files())
	require.NoError(t, err)
	assert.True(t, bytes.Equal(a, b))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(other.kits, "willowbench/mine.txt")))
	_, err = index.Pack(other.kit("willowbench").Files())
	require.ErrorContains(t, err, "mine.txt")
}

// A kit's version goes up when the kit changed, and only then; also when it leaves the
// catalogue and comes back.
func TestVersionsOnlyGoUp(t *testing.T) {
	p := newPublisher(t)
	first := p.publish([]string{"willowbench", "slateroom"})
	assert.Equal(t, []string{"slateroom", "willowbench"}, first.Changed)
	p.change("willowbench", "Talk by the water")
	second := p.publish([]string{"willowbench", "slateroom"})
	assert.Equal(t, []string{"willowbench"}, second.Changed)
	assert.Equal(t, 2, second.Serial)
	assert.Equal(t, 2, second.Kits["willowbench"].Version)
	assert.Equal(t, 1, second.Kits["slateroom"].Version)
	third := p.publish(nil, "willowbench")
	assert.NotContains(t, third.Kits, "willowbench")
	assert.Equal(t, 2, third.Withdrawn["willowbench"])
	p.change("willowbench", "Talk by the sea")
	fourth := p.publish([]string{"willowbench"})
	assert.Equal(t, 3, fourth.Kits["willowbench"].Version)
	left, err := filepath.Glob(filepath.Join(p.folder, "*.kit"))
	require.NoError(t, err)
	assert.Equal(t, []string{filepath.Join(p.folder, "slateroom-1.kit"), filepath.Join(p.folder, "willowbench-3.kit")},
		left)
	_, err = index.Publish(index.Publishing{Folder: p.folder, Key: p.key, Now: p.now, Without: []string{"inkreach"}})
	require.ErrorContains(t, err, "no kit of inkreach")
}

// A folder that another key signed, or that was tampered with, is left alone.
func TestPublishingOverAnothersCatalogue(t *testing.T) {
	p := newPublisher(t)
	p.publish([]string{"willowbench"})
	was, err := os.ReadFile(filepath.Join(p.folder, index.File))
	require.NoError(t, err)
	_, other, err := minisign.GenerateKey(rand.Reader)
	require.NoError(t, err)
	_, err = index.Publish(index.Publishing{Folder: p.folder, Key: other, Now: p.now, Valid: time.Hour})
	require.ErrorIs(t, err, index.ErrKey)
	assert.Equal(t, fault.Usage, fault.Of(err).Kind)
	now, err := os.ReadFile(filepath.Join(p.folder, index.File))
	require.NoError(t, err)
	assert.Equal(t, was, now)
}

// An owner follows a catalogue over https: an index that has not changed costs one
// request, a kit is fetched once, when it is used.
func TestFollowingOverHTTPS(t *testing.T) {
	p := newPublisher(t)
	p.publish([]string{"willowbench", "slateroom"})
	s, asked := p.serve()
	n, err := s.Refresh(context.Background())
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Equal(t, []string{"slateroom", "willowbench"}, n.New)
	assert.Equal(t, []string{"/index.json", "/index.json.minisig"}, *asked)
	*asked = nil
	n, err = s.Refresh(context.Background())
	require.NoError(t, err)
	assert.Equal(t,
		index.News{Serial: 1, Expires: n.Expires, New: []string{}, Changed: []string{}, Left: []string{}, Kits: 2}, n)
	assert.Equal(t, []string{"/index.json"}, *asked, "one request")
	*asked = nil
	require.NoError(t, s.Fresh(context.Background()))
	assert.Empty(t, *asked, "once a day")
	cards, err := s.Cards()
	require.NoError(t, err)
	assert.Len(t, cards, 2)
	for range 2 {
		_, withheld, err := open(t, s, "willowbench")
		require.NoError(t, err, "%v", fault.Of(err))
		require.NoError(t, withheld)
	}
	assert.Equal(t, []string{"/willowbench-1.kit"}, *asked)
	p.now = p.now.Add(25 * time.Hour)
	*asked = nil
	require.NoError(t, s.Fresh(context.Background()))
	assert.Equal(t, []string{"/index.json"}, *asked)
	_, _, err = s.Open("nothing")
	require.ErrorIs(t, err, fs.ErrNotExist)
}

// Who serves the catalogue but does not hold its key can change nothing, and bring
// nothing old back.
func TestWhoServesItCanForgeNothing(t *testing.T) {
	p := newPublisher(t)
	p.publish([]string{"willowbench", "slateroom"})
	old := t.TempDir()
	require.NoError(t, os.CopyFS(old, os.DirFS(p.folder)))
	p.change("willowbench", "Talk by the water")
	p.publish([]string{"willowbench"})
	s := p.shelf(nil, p.folder)
	_, err := s.Refresh(context.Background())
	require.NoError(t, err)

	refused := func(what, why string) {
		t.Helper()
		_, err := s.Refresh(context.Background())
		require.Error(t, err, what)
		assert.Contains(t, fault.Of(err).Error(), why, what)
		assert.NotEmpty(t, fault.Of(err).Remedy)
		known, _, err := s.State()
		require.NoError(t, err)
		assert.Equal(t, 2, known.Serial, "%s: what was known holds", what)
	}
	now := p.folder
	s.From = old
	refused("an older edition", "older than the one that is known")

	forged := t.TempDir()
	require.NoError(t, os.CopyFS(forged, os.DirFS(now)))
	text, err := os.ReadFile(filepath.Join(forged, index.File))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(forged, index.File), bytes.Replace(text, []byte(`"serial": 2`),
		[]byte(`"serial": 9`), 1), 0o600))
	s.From = forged
	refused("a changed index", "another key signed it")

	other := newPublisher(t)
	other.publish([]string{"willowbench"})
	s.From = other.folder
	refused("an index of another key", "another key signed it")

	require.NoError(t, os.Remove(filepath.Join(forged, index.Signature)))
	s.From = forged
	refused("no signature", "cannot be refreshed")

	s.From = now
	require.NoError(t, os.WriteFile(filepath.Join(now, "willowbench-2.kit"), []byte("something else"), 0o600))
	_, _, err = open(t, s, "willowbench")
	require.ErrorContains(t, err, "not the one that the catalogue millpond names")
	require.NoError(t, os.Truncate(filepath.Join(now, "slateroom-1.kit"), 1000))
	_, _, err = open(t, s, "slateroom")
	require.ErrorContains(t, err, "not the one")
	left, err := filepath.Glob(filepath.Join(s.Folder, "kits", "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// An edition that has ended installs nothing more; sites are looked after anyway.
// Neither is a newer one taken that has ended.
func TestEditionsEnd(t *testing.T) {
	p := newPublisher(t)
	p.publish([]string{"willowbench"})
	s := p.shelf(nil, p.folder)
	require.NoError(t, s.Fresh(context.Background()))
	_, withheld, err := open(t, s, "willowbench")
	require.NoError(t, err)
	require.NoError(t, withheld)
	p.now = p.now.Add(31 * 24 * time.Hour)
	require.ErrorContains(t, s.Fresh(context.Background()), "valid until 2026-12-26")
	summary, withheld, err := open(t, s, "willowbench")
	require.NoError(t, err)
	assert.NotEmpty(t, summary)
	require.ErrorContains(t, withheld, "valid until")
	p.publish(nil)
	require.NoError(t, s.Fresh(context.Background()))
	_, withheld, err = open(t, s, "willowbench")
	require.NoError(t, err)
	require.NoError(t, withheld)
}

// A kit that leaves the catalogue, or whose newer version cannot be had, goes on for the
// sites that are there.
func TestKitsOfSitesStay(t *testing.T) {
	p := newPublisher(t)
	p.publish([]string{"willowbench", "slateroom"})
	s := p.shelf(nil, p.folder)
	require.NoError(t, s.Fresh(context.Background()))
	was, _, err := open(t, s, "willowbench")
	require.NoError(t, err)

	p.change("willowbench", "Talk by the water")
	p.publish([]string{"willowbench"})
	n, err := s.Refresh(context.Background())
	require.NoError(t, err)
	assert.Equal(t, []string{"willowbench"}, n.Changed)
	kept := filepath.Join(p.folder, "willowbench-2.kit")
	require.NoError(t, os.Rename(kept, kept+".away"))
	again := *s // another process
	again.Folder = s.Folder
	now, withheld, err := open(t, &again, "willowbench")
	require.NoError(t, err)
	assert.Equal(t, was, now)
	require.ErrorContains(t, withheld, "cannot be had")
	require.NoError(t, os.Rename(kept+".away", kept))
	now, withheld, err = open(t, s, "willowbench")
	require.NoError(t, err)
	require.NoError(t, withheld)
	assert.Equal(t, "Talk by the water", now)

	p.publish(nil, "willowbench", "slateroom")
	n, err = s.Refresh(context.Background())
	require.NoError(t, err)
	assert.Equal(t, []string{"slateroom", "willowbench"}, n.Left)
	now, withheld, err = open(t, s, "willowbench")
	require.NoError(t, err)
	assert.Equal(t, "Talk by the water", now)
	require.ErrorContains(t, withheld, "has left the catalogue")
	_, _, err = s.Open("slateroom")
	require.ErrorIs(t, err, fs.ErrNotExist, "nobody used it")
	cards, err := s.Cards()
	require.NoError(t, err)
	assert.Empty(t, cards)
}

// What a publisher of ours would not write is refused, though the key signed it.
func TestSignedNonsense(t *testing.T) {
	p := newPublisher(t)
	done := p.publish([]string{"willowbench"})
	for what, change := range map[string]func(*index.Index){
		"format is 2":   func(x *index.Index) { x.Index = 2 },
		"no serial":     func(x *index.Index) { x.Serial = 0 },
		"no app's name": func(x *index.Index) { x.Kits["../x"] = x.Kits["willowbench"] },

		"names no kit": func(x *index.Index) {
			k := x.Kits["willowbench"]
			k.File = "../../x.kit"
			x.Kits["willowbench"] = k
		},
		"has 0 bytes":   func(x *index.Index) { k := x.Kits["willowbench"]; k.Bytes = 0; x.Kits["willowbench"] = k },
		"names no kit ": func(x *index.Index) { k := x.Kits["willowbench"]; k.SHA256 = "aa"; x.Kits["willowbench"] = k },
		"unmarshal":     nil,
	} {
		text, err := json.Marshal(done.Index)
		require.NoError(t, err)
		if change != nil {
			x := &index.Index{}
			require.NoError(t, json.Unmarshal(text, x))
			change(x)
			text, err = json.Marshal(x)
			require.NoError(t, err)
		} else {
			text = []byte(`[]`)
		}
		_, err = index.Read(text, minisign.Sign(p.key, text), p.key.Public().(index.PublicKey))
		require.ErrorContains(t, err, strings.TrimSpace(what))
	}
}

// A program that has read an older edition and uses a kit of it does not bring that
// edition back over a newer one that another program has fetched meanwhile.
func TestTwoProgramsAtOneShelf(t *testing.T) {
	p := newPublisher(t)
	p.publish([]string{"willowbench", "slateroom"})
	slow := p.shelf(nil, p.folder)
	require.NoError(t, slow.Fresh(context.Background()))
	p.change("slateroom", "Classes by the water")
	p.publish([]string{"slateroom"})
	quick := p.shelf(nil, p.folder)
	quick.Folder = slow.Folder
	_, err := quick.Refresh(context.Background())
	require.NoError(t, err)
	_, _, err = open(t, slow, "willowbench")
	require.NoError(t, err)
	third := p.shelf(nil, p.folder)
	third.Folder = slow.Folder
	known, _, err := third.State()
	require.NoError(t, err)
	assert.Equal(t, 2, known.Serial)
	p.publish(nil, "willowbench")
	_, err = third.Refresh(context.Background())
	require.NoError(t, err)
	_, withheld, err := open(t, third, "willowbench")
	require.NoError(t, err, "what the slow one used is known to the third")
	require.ErrorContains(t, withheld, "has left the catalogue")
}
