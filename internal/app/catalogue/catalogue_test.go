package catalogue_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/catalogue"
	"tivset/internal/demo"
	"tivset/internal/fault"
)

func TestCatalogue(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(dir))
	c := catalogue.New(catalogue.Source{Name: "demo", Files: os.DirFS(dir)},
		catalogue.Source{Name: "again", Files: os.DirFS(dir)})
	all, err := c.All()
	require.NoError(t, err)
	require.Len(t, all, 6, "of two kits for an app the first wins")
	assert.Equal(t, "helmroom", all[0].App)
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
	require.NoError(t, os.Rename(dir+"/moorings", dir+"/other"))
	_, err := catalogue.New(catalogue.Source{Name: "demo", Files: os.DirFS(dir)}).Find("other")
	assert.ErrorContains(t, err, "is for moorings")
	_, err = catalogue.New(catalogue.Source{Name: "gone", Files: os.DirFS(dir + "/none")}).All()
	assert.ErrorContains(t, err, "cannot read the catalogue gone")
}

// A kit with mistakes hides no other, and is named.
func TestFaultyKit(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(dir))
	all, faulty, err := catalogue.New(catalogue.Source{Name: "demo", Files: os.DirFS(dir)},
		catalogue.Source{Name: "bad", Files: fstest.MapFS{"x/kit.yaml": {Data: []byte("kit: 9")}}}).Look()
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
	for _, kit := range []string{"moorings", "other"} {
		require.NoError(t, os.MkdirAll(filepath.Join(folder, kit), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, kit, "mine.txt"), []byte("mine"), 0o644))
	}
	require.NoError(t, os.Symlink(filepath.Join(folder, "moorings"), filepath.Join(folder, "linked")))
	kits := catalogue.Folder("tests", folder).Files
	for name, to := range map[string]string{"licence.txt": "../../vault.key",
		"whole.txt": filepath.Join(home, "vault.key"), "theirs.txt": "../other/mine.txt", "fine.txt": "mine.txt"} {
		require.NoError(t, os.Symlink(to, filepath.Join(folder, "moorings", name)))
		of, err := fs.Sub(kits, "moorings")
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
