package reach_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
)

// Jobs that begin and end all the while take the empty store away and make it anew under
// each other's hands; none fails because of that, and in the end nothing is left.
func TestMarksThatComeAndGo(t *testing.T) {
	for name, over := range map[string]func(*testing.T, *sitetest.World){
		"here": func(*testing.T, *sitetest.World) {},
		"SFTP": func(t *testing.T, w *sitetest.World) {
			sitetest.OverSFTP(t, w)
			_, err := w.Reach.Hosts.Trust(w.Demo.Standin.SSH.Address(), w.Demo.Standin.SSH.Fingerprint())
			require.NoError(t, err)
		},
		"FTP": func(t *testing.T, w *sitetest.World) { sitetest.OverFTP(t, w, account.FTP) },
	} {
		t.Run(name, func(t *testing.T) {
			w := sitetest.Demo(t)
			over(t, w)
			before := w.Snapshot()
			a, err := w.Book.Home.Account("quillmere")
			require.NoError(t, err)
			var group errgroup.Group
			for n := range 8 {
				group.Go(func() error {
					in, err := w.Hosting.Open(ctx, a)
					if err != nil {
						return err
					}
					defer in.Close()
					store := in.Store()
					for i := range 40 {
						m := hosting.Mark{Job: fmt.Sprintf("%d-%d", n, i), Address: fmt.Sprintf("lockside.localhost/%d", n),
							Since: time.Now()}
						mark := store.Mark(m.Address)
						if err := in.SetMark(ctx, mark, m); err != nil {
							return fmt.Errorf("setting: %w", err)
						}
						if err := in.DropMark(ctx, mark, m.Job, store.Busy(), store.Top()); err != nil {
							return fmt.Errorf("dropping: %w", err)
						}
					}
					return nil
				})
			}
			assert.NoError(t, group.Wait())
			sitetest.Same(t, before, w.Snapshot())
		})
	}
}
