package kits_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/update"
)

// owner acts between what is done to a site, each time anew: uploads something,
// gives a plugin of their own another name, changes the title and the password in
// the app.
type owner struct {
	t       *testing.T
	w       *sitetest.World
	n       int
	uploads []string
}

// ownersPlaces are where each app has what its owner adds: where it takes uploads and plugins.
var ownersPlaces = map[string]struct{ uploads, plugins string }{"tt-rss": {"feed-icons", "plugins.local"},
	"roundcube": {"temp", "plugins"}}

func (o *owner) acts(address string) {
	t := o.t
	t.Helper()
	o.n++
	x, err := o.w.Book.Find(context.Background(), address)
	require.NoError(t, err)
	on := ownersPlaces[x.App]
	o.put(x, fmt.Sprintf("%s/upload-%d.ico", on.uploads, o.n), "a picture of mine")
	o.uploads = append(o.uploads, fmt.Sprintf("%s/upload-%d.ico", on.uploads, o.n))
	o.plugin(x, on.plugins)
	if x.App == "roundcube" {
		o.title(x)
	} else {
		o.password(x)
	}
	now, err := o.w.Book.Find(context.Background(), address)
	require.NoError(t, err)
	o.right(now, "updates")
}

func (o *owner) full(x ledger.Site, name string) string {
	return filepath.Join(o.w.Root, x.Folder, name)
}

func (o *owner) put(x ledger.Site, name, text string) {
	require.NoError(o.t, os.MkdirAll(filepath.Dir(o.full(x, name)), 0o755))
	require.NoError(o.t, os.WriteFile(o.full(x, name), []byte(text), 0o644))
	// It belongs to the account's user, as all does that owners put there.
	folder, err := os.Stat(o.full(x, ""))
	require.NoError(o.t, err)
	is := folder.Sys().(*syscall.Stat_t)
	for _, own := range []string{name, filepath.Dir(name)} {
		require.NoError(o.t, os.Lchown(o.full(x, own), int(is.Uid), int(is.Gid)))
	}
}

// plugin adds one, or gives its folder another name: a program that nobody vouches
// for, until its owner does.
func (o *owner) plugin(x ledger.Site, in string) {
	o.t.Helper()
	name := fmt.Sprintf("%s/tide%d", in, o.n)
	old, err := filepath.Glob(o.full(x, in+"/tide*"))
	require.NoError(o.t, err)
	if len(old) > 0 {
		require.NoError(o.t, os.Rename(old[0], o.full(x, name)))
	} else {
		o.put(x, name+"/init.php", "<?php // the tides\n")
	}
	o.wrong(x, "added files", name+"/init.php")
	_, err = o.w.Examiner.Vouch(context.Background(), x, []string{name})
	require.NoError(o.t, err)
}

// title changes it in the app's configuration, by hand.
func (o *owner) title(x ledger.Site) {
	o.t.Helper()
	file := o.full(x, "config/config.inc.php")
	text, err := os.ReadFile(file)
	require.NoError(o.t, err)
	line := regexp.MustCompile(`(?m)^\$config\['product_name'\] = .*$`)
	require.True(o.t, line.Match(text))
	title := fmt.Sprintf("Quay mail %d", o.n)
	changed := line.ReplaceAll(text, fmt.Appendf(nil, "$$config['product_name'] = '%s';", title))
	require.NoError(o.t, os.WriteFile(file, changed, 0o640))
	x, err = o.w.Book.Find(context.Background(), x.Address)
	require.NoError(o.t, err)
	o.right(x, "updates")
	x, err = o.w.Book.Find(context.Background(), x.Address)
	require.NoError(o.t, err)
	assert.Equal(o.t, title, x.Title)
}

// password changes it in the app: what is stored is refused before anything is
// touched, until Tivset is told the new one.
func (o *owner) password(x ledger.Site) {
	o.t.Helper()
	word, salt := fmt.Sprintf("Wasserstand-%d-Pegel-Uferweg", o.n), strings.Repeat("s", 64)
	hash := sha256.Sum256([]byte(salt + word))
	o.w.Query(x, fmt.Sprintf("UPDATE ttrss_users SET salt = '%s', pwd_hash = 'MODE2:%s' WHERE id = 1", salt,
		hex.EncodeToString(hash[:])))
	before := o.w.Snapshot()
	_, err := update.Look(context.Background(), o.w.Desk, update.Request{Site: x.Address})
	require.Error(o.t, err)
	assert.Equal(o.t, fault.Decision, fault.Of(err).Kind, "%v", err)
	assert.Equal(o.t, before, o.w.Snapshot())
	_, err = o.w.Sites.Learn(context.Background(), x.Address, "", secret.Of(word))
	require.NoError(o.t, err, "%v", fault.Of(err))
}

// wrong makes sure that a check names something.
func (o *owner) wrong(x ledger.Site, name, what string) {
	o.t.Helper()
	e, err := o.w.Examiner.Check(context.Background(), x)
	require.NoError(o.t, err)
	for _, c := range e.Checks {
		if c.Name == name {
			assert.False(o.t, c.OK, "%s: %s", c.Name, c.Detail)
			assert.Contains(o.t, c.Detail, what)
		}
	}
}

// right makes sure that a check finds nothing wrong but what is named; this nginx
// passes over .htaccess.
func (o *owner) right(x ledger.Site, but ...string) {
	o.t.Helper()
	e, err := o.w.Examiner.Check(context.Background(), x)
	require.NoError(o.t, err)
	for _, c := range e.Checks {
		assert.True(o.t, c.OK || c.Name == "private files" || slices.Contains(but, c.Name), "%s: %s", c.Name,
			c.Detail)
	}
}

// has makes sure that uploads are where a site is.
func (o *owner) has(x ledger.Site, uploads []string) {
	o.t.Helper()
	for _, name := range uploads {
		assert.FileExists(o.t, o.full(x, name))
	}
}
