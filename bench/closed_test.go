//go:build bench

package bench

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/app/archive"
	"tivset/internal/hosting/files/local"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/place"
	"tivset/internal/work/update"
)

// For how long a site with 60 MB of files and 200 MB of database is closed by an
// update and by a move, as a visitor sees it who asks every 20 ms.
func TestClosedFor(t *testing.T) {
	ctx := context.Background()
	g := chaos.NewGround(t, servers.PHPWeb)
	w := g.World(t, "local")
	done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
	require.NoError(t, err)
	x := done.Site
	random := rand.NewChaCha8([32]byte{7})
	for n := range 600 {
		content := make([]byte, 100<<10)
		_, _ = random.Read(content)
		require.NoError(t, os.WriteFile(filepath.Join(g.Root, x.Folder, "uploads", fmt.Sprintf("%d.jpg", n)), content, 0o644))
	}
	w.Query(x, "CREATE TABLE {tables}pages (id INT AUTO_INCREMENT PRIMARY KEY, body MEDIUMTEXT NOT NULL) ENGINE=InnoDB")
	// Text that packs about as well as people's does.
	w.Query(
		x,
		"INSERT INTO {tables}pages (body) SELECT CONCAT(seq, REPEAT(CONCAT(MD5(seq), ' ', MD5(seq * 7), ' '), 150)) "+
			"FROM seq_1_to_20000",
	)
	for _, change := range []struct {
		name string
		do   func() error
	}{
		{"update", func() error {
			_, err := update.To(ctx, w.Desk, update.Request{Site: x.Address, Release: "2.0.0"})
			return err
		}},
		{"move", func() error {
			return sitetest.CopyOf(w, place.Request{Site: x.Address, At: "chandlery.localhost/talk", Move: true})
		}},
	} {
		from := "http://lockside.localhost/talk/"
		v := g.Visit(from, 20*time.Millisecond)
		begun := time.Now()
		require.NoError(t, change.do())
		took := time.Since(begun)
		v.Leave()
		closed, statuses := v.Closed()
		if change.name == "move" { // the old place does not open again: until the new one was there
			closed = v.ClosedUntil(begun.Add(took))
		}
		fmt.Printf("%s of a site with 60 MB of files and 200 MB of database: %.1f s in all, closed for %.2f s (limit 2), "+
			"answers %v\n", change.name, took.Seconds(), closed.Seconds(), statuses)
		require.Less(t, closed, 2*time.Second, change.name)
	}
}

// Unpacking an .xz archive, against xz and tar.
func TestUnpackXZ(t *testing.T) {
	name := servers.TTRSS(t)
	paths := servers.Need(t, "xz", "tar")
	to := t.TempDir()
	n := 0
	ours, theirs := inTurn(5, func() {
		n++
		f, err := local.Open(to)
		require.NoError(t, err)
		folder := fmt.Sprintf("ours%d", n)
		require.NoError(t, f.Mkdir(context.Background(), folder, 0o755))
		file, err := os.Open(name)
		require.NoError(t, err)
		require.NoError(t, archive.Unpack(context.Background(), file, "", nil, f, folder, func(int, int64) {}))
		require.NoError(t, errors.Join(file.Close(), f.Close()))
	}, func() {
		n++
		folder := filepath.Join(to, fmt.Sprintf("theirs%d", n))
		require.NoError(t, os.Mkdir(folder, 0o755))
		c := exec.Command("sh", "-c", paths[0]+" -dc "+name+" | "+paths[1]+" -xf - -C "+folder)
		require.NoError(t, c.Run())
	})
	fmt.Printf("unpacking an .xz archive of 5 MB: %.2f s; xz and tar: %.2f s; ratio %.2f (limit 1.3)\n", ours.Seconds(),
		theirs.Seconds(), ours.Seconds()/theirs.Seconds())
}
