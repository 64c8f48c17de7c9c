//go:build unix

package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Many sites are meant by what holds of them: labels of one's own too, from a table or by hand; the rest of a backup of
// many is what has none yet; and new sites are looked after as was decided once.
func TestManyByWhatHolds(t *testing.T) {
	p := newProgram(t)
	var care struct {
		Care struct{ Notify, Accepts string }
	}
	p.json(&care, "care", "--default", "--notify", "wharfinger@lockside.localhost, trouble", "--accepts", "features")
	assert.Equal(t, "features", care.Care.Accepts)
	for _, at := range []string{"forum", "journal", "news"} {
		p.json(&struct{}{}, install("inkreach", "lockside.localhost/"+at)...)
	}
	var sites []struct {
		Address string
		Labels  map[string]string
		Care    struct{ Notify, Accepts string }
	}
	p.json(&sites, "sites")
	require.Len(t, sites, 3)
	assert.Equal(t, "wharfinger@lockside.localhost, trouble", sites[0].Care.Notify)
	table := filepath.Join(t.TempDir(), "sites.csv")
	require.NoError(t, os.WriteFile(table, []byte("site,customer,phone\nforum,brook,12\njournal,brook,13\n"), 0o600))
	p.json(&[]struct{}{}, "label", "--table", table)
	p.json(&[]struct{}{}, "label", "news", "customer=lamp")
	p.json(&[]struct{}{}, "sites", "--where", "customer=brook", "--save-as", "brook")
	var done struct{ Outcome string }
	p.json(&struct{}{}, "backup", "forum")
	p.json(&done, "backup", "--where", "@brook", "--unless-since", "12h")
	p.json(&sites, "sites", "--where", "customer=brook", "--where", "next!=a backup")
	assert.Len(t, sites, 2)
	p.json(&sites, "sites", "--where", "phone=13")
	require.Len(t, sites, 1)
	assert.Equal(t, map[string]string{"customer": "brook", "phone": "13"}, sites[0].Labels)
	var listed []struct{ Address string }
	p.json(&listed, "backup", "--list")
	assert.Len(t, listed, 2, "one of each, and none of another's")
	for call, words := range map[string][]string{
		"no site on record is so":       {"sites", "--where", "customer=nobody"},
		"no site has a label custommer": {"backup", "--where", "custommer=brook"},
		"a label cannot be so":          {"label", "forum", "app=x"},
		"--where says which sites":      {"check", "forum", "--where", "customer=brook"},
		"no selection is called other":  {"check", "--where", "@other"},
	} {
		out, err := p.as("tivset", nil, words...).CombinedOutput()
		require.Error(t, err, call)
		assert.Contains(t, string(out), call)
	}
}

// Several lost sites come back with one call; and when a host died, a table of new addresses and backups that were kept
// here brings all of them elsewhere, each at its own address.
func TestManyComeBack(t *testing.T) {
	p := newProgram(t)
	for _, at := range []string{"forum", "journal"} {
		p.json(&struct{}{}, install("inkreach", "lockside.localhost/"+at)...)
	}
	kept := t.TempDir()
	p.json(&[]struct{}{}, "backup", "--all", "--yes")
	p.json(&[]struct{}{}, "backup", "--all", "--into", kept, "--yes")
	web := filepath.Join(p.demo.Standin.Root, "web", "lockside")
	for _, at := range []string{"forum", "journal"} {
		require.NoError(t, os.RemoveAll(filepath.Join(web, at)))
	}
	_, err := p.as("tivset", nil, "check", "--all").CombinedOutput()
	require.Error(t, err)
	var back []struct{ Outcome string }
	p.json(&back, "restore", "--where", "health=gone", "--yes")
	assert.Equal(t, []struct{ Outcome string }{{"restored"}, {"restored"}}, back)

	files, err := filepath.Glob(filepath.Join(kept, "*.tar.zst"))
	require.NoError(t, err)
	require.Len(t, files, 2)
	table := filepath.Join(t.TempDir(), "lost.csv")
	require.NoError(t, os.WriteFile(table, []byte("site,from\nchandlery.localhost/forum,"+files[0]+"\n"+
		"chandlery.localhost/journal,"+files[1]+"\n"), 0o600))
	p.json(&back, "restore", "--account", "quillmere", "--table", table, "--yes")
	assert.Equal(t, []struct{ Outcome string }{{"restored"}, {"restored"}}, back)
	var sites []struct{ Address, Health string }
	p.json(&sites, "sites")
	require.Len(t, sites, 4)
	for _, x := range sites {
		assert.Equal(t, "good", x.Health, x.Address)
	}
}
