package catalogue_test

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
	"tivset/internal/demo"
	"tivset/internal/fault"
)

func TestCatalogue(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(dir))
	c := catalogue.New(catalogue.Folder("demo", dir))
	all, _, err := c.Cards()
	require.NoError(t, err)
	require.Len(t, all, 6)
	assert.Equal(t, "inkreach", all[0].App)
	assert.Equal(t, "demo", all[0].Catalogue)
	assert.Len(t, catalogue.Search(all, "forum", nil), 1)
	assert.Len(t, catalogue.Search(all, "", []string{"QUIET", "journal"}), 1)
	assert.Empty(t, catalogue.Search(all, "forum", []string{"journal"}))
	_, err = c.Find("moring")
	assert.Equal(t, fault.Usage, fault.Of(err).Kind)
	assert.Contains(t, fault.Of(err).Remedy, fault.Call("browse"))
}

func TestFolderOfAnotherName(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(dir))
	require.NoError(t, os.Rename(dir+"/willowbench", dir+"/other"))
	_, err := catalogue.New(catalogue.Source{Name: "demo", Files: os.DirFS(dir)}).Find("other")
	assert.ErrorContains(t, err, "is for willowbench")
	_, _, err = catalogue.New(catalogue.Folder("gone", dir+"/none")).Cards()
	assert.ErrorContains(t, err, "cannot read the catalogue gone")
}

// A kit with mistakes hides no other, and is named.
func TestFaultyKit(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(dir))
	all, faulty, err := catalogue.New(catalogue.Source{Name: "demo", Files: os.DirFS(dir)},
		catalogue.Source{Name: "bad", Files: fstest.MapFS{"x/kit.yaml": {Data: []byte("kit: 9")}}}).Cards()
	require.NoError(t, err)
	assert.Len(t, all, 6)
	require.Len(t, faulty, 1)
	assert.ErrorContains(t, faulty[0], "the kit x has mistakes")
}

// A kit's links lead nowhere outside of its own folder: neither to this machine's
// files nor to another kit's.
func TestLinksOutOfAKit(t *testing.T) {
	home := t.TempDir()
	folder := filepath.Join(home, "kits")
	require.NoError(t, os.WriteFile(filepath.Join(home, "vault.key"), []byte("AGE-SECRET-KEY-1"), 0o600))
	for _, kit := range []string{"willowbench", "other"} {
		require.NoError(t, os.MkdirAll(filepath.Join(folder, kit), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, kit, "mine.txt"), []byte("mine"), 0o644))
	}
	require.NoError(t, os.Symlink(filepath.Join(folder, "willowbench"), filepath.Join(folder, "linked")))
	kits := catalogue.Folder("tests", folder).Files
	for name, to := range map[string]string{"licence.txt": "../../vault.key",
		"whole.txt": filepath.Join(home, "vault.key"), "theirs.txt": "../other/mine.txt", "fine.txt": "mine.txt"} {
		require.NoError(t, os.Symlink(to, filepath.Join(folder, "willowbench", name)))
		of, err := fs.Sub(kits, "willowbench")
		require.NoError(t, err)
		text, err := fs.ReadFile(of, name)
		if name == "fine.txt" {
			require.NoError(t, err)
			continue
		}
		assert.Error(t, err, name)
		assert.Empty(t, text)
	}
	_, err := fs.Sub(kits, "linked")
	assert.Error(t, err)
}

// What kits told is noted: a list of them reads none anew, until something in one changes.
func TestCardsAreNoted(t *testing.T) {
	dir, notes := t.TempDir(), filepath.Join(t.TempDir(), "cache/kits.json")
	require.NoError(t, demo.WriteCatalogue(dir))
	reads := 0
	look := func() []catalogue.Card {
		t.Helper()
		c := catalogue.New(catalogue.Folder("demo", dir))
		c.Notes, c.Known = notes, func(*kit.Kit) { reads++ }
		cards, faulty, err := c.Cards()
		require.NoError(t, err)
		require.Empty(t, faulty)
		return cards
	}
	first := look()
	assert.Equal(t, 6, reads)
	assert.Equal(t, first, look())
	assert.Equal(t, 6, reads)
	name := filepath.Join(dir, "willowbench/kit.yaml")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(name, bytes.Replace(text, []byte("kind: forum"), []byte("kind: wiki"), 1), 0o644))
	assert.Len(t, catalogue.Search(look(), "wiki", nil), 1)
	assert.Equal(t, 7, reads)
	require.NoError(t, os.WriteFile(notes, []byte(`{"notes": 1, "kits": [`), 0o600))
	assert.Len(t, look(), 6)
	assert.Equal(t, 13, reads, "a damaged file of notes is made anew")
}

// An app that two catalogues have is for the owner to decide, once.
func TestTwoCataloguesWithOneApp(t *testing.T) {
	dir, other := t.TempDir(), t.TempDir()
	require.NoError(t, demo.WriteCatalogue(dir))
	require.NoError(t, os.CopyFS(filepath.Join(other, "willowbench"), os.DirFS(filepath.Join(dir, "willowbench"))))
	c := catalogue.New(catalogue.Folder("demo", dir), catalogue.Folder("other", other))
	_, err := c.Find("willowbench")
	require.Error(t, err)
	f := fault.Of(err)
	assert.Equal(t, fault.NeedsConfirmation, f.Kind)
	assert.Contains(t, f.Remedy, fault.Call("catalogue", "use", "willowbench", "demo"))
	assert.Len(t, f.Details, 2)
	_, err = c.Find("slateroom")
	require.NoError(t, err)
	c.Decided = map[string]string{"willowbench": "other"}
	e, err := c.Find("willowbench")
	require.NoError(t, err)
	assert.Equal(t, "other", e.Catalogue)
	cards, _, err := c.Cards()
	require.NoError(t, err)
	assert.Len(t, cards, 6, "the one that counts is shown")
	c.Decided = map[string]string{"slateroom": "other"}
	_, err = c.Find("slateroom")
	assert.Contains(t, fault.Of(err).Remedy, "You decided for the catalogue other")
}
