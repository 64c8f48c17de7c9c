package work_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/testing/chaos"
	"tivset/internal/trial/servers"
	"tivset/internal/work/update"
)

// limits asks a page of restless many times at once, so that each of PHP's
// processes answers, and tells which limits of memory they have.
func limits(t *testing.T, g *chaos.Ground, address string) map[string]int {
	t.Helper()
	var mu sync.Mutex
	var wait sync.WaitGroup
	found := map[string]int{}
	for range 24 {
		wait.Go(func() {
			page, err := g.Visitor(address).Get(context.Background(), address)
			if !assert.NoError(t, err) {
				return
			}
			_, rest, _ := strings.Cut(string(page.Body), "<!-- ")
			limit, _, _ := strings.Cut(rest, " ")
			mu.Lock()
			defer mu.Unlock()
			found[limit]++
		})
	}
	wait.Wait()
	return found
}

// Settings of PHP that an app brings are there when an install is said to be
// checked, also at a document root in which PHP knows for a while that there are
// none; and they stay while a site is closed and comes back.
func TestSettingsOfPHP(t *testing.T) {
	g := chaos.NewGround(t, servers.PHPWeb)
	w := g.World(t, "local")
	at := "http://lockside.localhost:" + g.Web[strings.LastIndexByte(g.Web, ':')+1:] + "/"
	page := filepath.Join(g.Root, "web/lockside/index.php")
	require.NoError(t, os.WriteFile(page, []byte("<?php echo '<!-- ', ini_get('memory_limit'), ' -->';"), 0o644))
	assert.Equal(t, map[string]int{"128M": 24}, limits(t, g, at))
	require.NoError(t, os.Remove(page))
	request := chaos.Request("lockside.localhost", "1.0.0")
	done, err := w.Install(request)
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Equal(t, map[string]int{"192M": 24}, limits(t, g, at), "%v", done.Warnings)
	ini := filepath.Join(w.Root, done.Site.Folder, ".user.ini")
	text, err := os.ReadFile(ini)
	require.NoError(t, err)
	assert.Equal(t, "memory_limit = 192M\n", string(text))
	assert.Contains(t, done.Site.Entries, ".user.ini")

	// The owner's own stay, and what was set higher.
	require.NoError(t, os.WriteFile(ini, []byte("display_errors = 0\nmemory_limit = 256M ; mine\n"), 0o644))
	time.Sleep(6 * time.Second) // longer than PHP remembers, in whole seconds
	assert.Equal(t, map[string]int{"256M": 24}, limits(t, g, at))
	v := g.Visit(at, 50*time.Millisecond)
	_, err = update.To(ctx, w.Desk, update.Request{Site: done.Site.Address, Release: "2.0.0"})
	v.Leave()
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Equal(t, map[string]int{"256M": 24}, limits(t, g, at))
	text, err = os.ReadFile(ini)
	require.NoError(t, err)
	assert.Equal(t, "display_errors = 0\nmemory_limit = 256M ; mine\n", string(text))
}
