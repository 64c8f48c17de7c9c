package work_test

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work"
	"tivset/internal/work/backup"
	"tivset/internal/work/batch"
	"tivset/internal/work/place"
	"tivset/internal/work/update"
)

// side does something to several sites of an account at once, and gives how each ended.
func side(w *sitetest.World, sites []ledger.Site, do func(ctx context.Context, d *work.Service, n int) error) []error {
	errs := make([]error, len(sites))
	var tasks []batch.Task
	for n, x := range sites {
		a, err := w.Book.Home.Account(x.Account)
		require.NoError(w.T, err)
		tasks = append(
			tasks,
			batch.Task{Account: a, Server: x.Database.Server, Do: func(ctx context.Context, d *work.Service) error {
				return do(ctx, d, n)
			}},
		)
	}
	batch.Side(ctx, w.Desk, batch.AtOnce(len(tasks)), tasks, batch.Watch{Ended: func(n int, err error) { errs[n] = err }})
	return errs
}

// People write into all of several sites, behind PHP's code cache, while these are updated,
// backed up and copied side by side; their records are a team's. Nothing that a site said it
// has kept is lost, also of the one whose update fails, and no stranger gets in.
func TestSeveralWhileTheWorldMoves(t *testing.T) {
	servers.Slow(t)
	for _, reach := range []string{"local", "SFTP", "FTP"} {
		t.Run(reach, func(t *testing.T) {
			t.Parallel()
			pace := 50 * time.Millisecond
			if reach == "FTP" {
				pace = 250 * time.Millisecond
			}
			g := chaos.NewGround(t, servers.PHPWeb)
			w := g.World(t, reach)
			sitetest.OnTeam(t, w, sitetest.Records(t))
			var sites []ledger.Site
			for n := range 3 {
				done, err := w.Install(chaos.Request(fmt.Sprintf("lockside.localhost/talk%d", n), "1.0.0"))
				require.NoError(t, err, "%v", fault.Of(err))
				sites = append(sites, done.Site)
			}
			visit := func() (all []*chaos.Visitors) {
				for n := range sites {
					v := g.Visit(fmt.Sprintf("http://lockside.localhost/talk%d/", n), pace)
					require.Eventually(t, v.Begun, 20*time.Second, 20*time.Millisecond)
					all = append(all, v)
				}
				return all
			}
			left := func(all []*chaos.Visitors, what string) {
				for n, v := range all {
					v.Leave()
					noStranger(t, v, what)
					require.NotEmpty(t, v.Kept(), what)
					now, err := w.Book.Find(ctx, sites[n].Address)
					require.NoError(t, err)
					there := everything(t, w, now) + kept(t, w, now, v.Kept())
					for _, text := range v.Kept() {
						assert.GreaterOrEqual(t, strings.Count(there, text+"\n"), 3, "%s: %s of %s is lost", what, text,
							now.Address)
					}
				}
			}

			all := visit()
			errs := side(w, sites, func(ctx context.Context, d *work.Service, n int) error {
				_, err := update.To(ctx, d,
					update.Request{Site: sites[n].Address, Release: []string{"2.0.0", "2.0.0", "3.0.0"}[n]})
				return err
			})
			left(all, "updates")
			require.NoError(t, errs[0], "%v", fault.Of(errs[0]))
			require.NoError(t, errs[1], "%v", fault.Of(errs[1]))
			require.ErrorContains(t, errs[2], "nowhere", "its migration fails")

			all = visit()
			for n, err := range side(w, sites, func(ctx context.Context, d *work.Service, n int) error {
				_, err := backup.Make(ctx, d, backup.Request{Site: sites[n].Address})
				return err
			}) {
				require.NoError(t, err, sites[n].Address)
			}
			left(all, "backups")

			all = visit()
			before := all[0].Kept()
			for n, err := range side(w, sites, func(ctx context.Context, d *work.Service, n int) error {
				for {
					err := copyTo(ctx, d, sites[0].Address, fmt.Sprintf("chandlery.localhost/try%d", n))
					// Over FTP two may set a mark in the same moment; who was replaced finds out before the next step, and has
					// left nothing.
					if !strings.HasPrefix(reach, "FTP") || !errors.Is(err, job.ErrNotOurs) {
						return err
					}
				}
			}) {
				require.NoError(t, err, "copy %d: %v", n, fault.Of(err))
			}
			left(all, "copies")
			for n := range sites {
				x, err := w.Book.Find(ctx, fmt.Sprintf("chandlery.localhost/try%d", n))
				require.NoError(t, err)
				there := everything(t, w, x)
				for _, text := range before {
					assert.Equal(t, 3, strings.Count(there, text+"\n"), "%s in copy %d", text, n)
				}
			}
		})
	}
}

// kept is what of some entries was put over when a job at a site was taken back, and kept.
func kept(t *testing.T, w *sitetest.World, x ledger.Site, entries []string) (out string) {
	t.Helper()
	jobs, err := w.Desk.Jobs(ctx)
	require.NoError(t, err)
	for _, j := range jobs {
		if j.Address != x.Address {
			continue
		}
		for _, name := range j.Kept { // in a team it is in the account
			out += inBackup(t, filepath.Join(w.Root, name), entries)
		}
		for _, folder := range j.Replaced {
			out += files(t, filepath.Join(w.Root, folder, x.Folder), filepath.Join(w.Root, folder, x.DataFolder))
		}
	}
	return out
}

// copyTo makes a copy of a site at another address.
func copyTo(ctx context.Context, d *work.Service, site, at string) error {
	p, err := place.Look(ctx, d, place.Request{Site: site, At: at})
	if err != nil {
		return err
	}
	defer p.Close()
	_, err = place.Carry(ctx, d, p)
	return err
}
