package catalogue_test

import (
	"os"
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
	_, err = catalogue.New(catalogue.Source{Name: "bad",
		Files: fstest.MapFS{"x/kit.yaml": {Data: []byte("kit: 9")}}}).All()
	assert.Error(t, err)
}
