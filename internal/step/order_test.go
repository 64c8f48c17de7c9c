package step

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/app/kit"
	"tivset/internal/hosting/files"
)

// What answers leaves first and arrives last, and the configuration is there all
// the while; a server's rules go last of all.
func TestOrderOfLeavingAndArriving(t *testing.T) {
	k := &kit.Kit{Config: []kit.Config{{Path: "config.php"}, {Path: "inc/local/settings.ini"}}}
	in := []string{"index.php", "lib", "config.php", ".htaccess", "inc", "post.php"}
	assert.Equal(t, []string{".htaccess", "config.php", "inc", "lib", "index.php", "post.php"},
		inOrder(k, "", in, func(n string) string { return n }))
	assert.Equal(t, []string{"index.php", "about.php", "lib", "config.php", "settings", ".env", ".htaccess"},
		outOrder([]string{".htaccess", "about.php", "config.php", "index.php", "lib", "settings", ".env"}))

	c := &Close{Folder: "w", Kit: k, MaintenancePage: MaintenancePage{At: "s/b", Files: []string{".htaccess",
		"index.php", "tivset-x.php"}}}
	move := func(from, to string) files.Move { return files.Move{From: from, To: to} }
	moves := c.Reopened([]files.Move{move("n/index.php", "w/index.php"), move("n/config.php", "w/config.php"),
		move("n/.htaccess", "w/.htaccess"), move("n/lib", "w/lib")})
	assert.Equal(t, []files.Move{move("w/.htaccess", "s/b/.htaccess"), move("n/.htaccess", "w/.htaccess"),
		move("n/config.php", "w/config.php"), move("n/lib", "w/lib"),
		move("w/index.php", "s/b/index.php"), move("n/index.php", "w/index.php"),
		move("w/tivset-x.php", "s/b/tivset-x.php")}, moves, "the notice answers until its page's place is taken")
	flusher, held := c.held(moves)
	assert.Equal(t, "tivset-x.php", flusher)
	assert.Equal(t, 3, held, "what code needs leaves only once the code cache is empty")
}
