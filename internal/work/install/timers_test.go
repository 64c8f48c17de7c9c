package install_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/install"
)

// program does what crontab(1) does, in a file of its own.
const program = `#!/bin/sh
file="$(dirname "$0")/kept"
case $1 in
-l) [ -f "$file" ] || { echo "no crontab for quill" >&2; exit 1; }; cat "$file" ;;
-r) rm "$file" ;;
-) cat >"$file" ;;
esac
`

func fakeCrontab(t *testing.T) (path, kept string) {
	t.Helper()
	dir := t.TempDir()
	path = filepath.Join(dir, "crontab")
	require.NoError(t, os.WriteFile(path, []byte(program), 0o755))
	return path, filepath.Join(dir, "kept")
}

func TestTimersInTheCrontab(t *testing.T) {
	for name, reach := range map[string]func(*sitetest.World){
		"local": func(*sitetest.World) {},
		"SSH": func(w *sitetest.World) {
			s := servers.OpenSSH(w.T, "")
			_, err := w.Reach.Hosts.Trust(s.Address, s.Fingerprint)
			require.NoError(t, err)
			w.EditAccount(func(a *account.Account) {
				a.Reach, a.Login = "sftp://"+s.User+"@"+s.Address+w.Root, &account.Access{Key: s.KeyFile}
			})
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := sitetest.Demo(t)
			reach(w)
			program, kept := fakeCrontab(t)
			w.EditAccount(func(a *account.Account) { a.Runtime.Crontab = program })
			for _, before := range []string{"", "MAILTO=quill\n5 4 * * * ~/backup # 100%\n"} {
				if before != "" {
					require.NoError(t, os.WriteFile(kept, []byte(before), 0o600))
				}
				account := w.Snapshot()
				planned, err := w.Planner.Plan(ctx, sitetest.Request("slateroom", "slate-school.localhost"))
				require.NoError(t, err)
				assert.Len(t, planned.Changes.Timers, 1)
				assert.Empty(t, planned.Todo)
				done, err := install.Install(ctx, w.Desk, planned)
				require.NoError(t, err)
				text, err := os.ReadFile(kept)
				require.NoError(t, err)
				assert.True(t, strings.HasPrefix(string(text), before), "what was there stays")
				assert.Contains(t, string(text), "* * * * curl -fsS")
				creds, err := w.Book.Reveal(ctx, "slate-school.localhost")
				require.NoError(t, err)
				for _, o := range creds.Others {
					assert.NotContains(t, string(text), o.Value.Reveal(), "keys are not in the crontab")
				}
				found, err := filepath.Glob(filepath.Join(w.Root, ".tivset/timers/*/0.curl"))
				require.NoError(t, err)
				require.Len(t, found, 1)
				fetch, err := os.ReadFile(found[0])
				require.NoError(t, err)
				assert.Contains(t, string(fetch), done.Site.URL)
				_, _, err = w.Desk.TakeBack(ctx, done.Job)
				require.NoError(t, err)
				sitetest.Same(t, account, w.Snapshot())
				if text, err = os.ReadFile(kept); before == "" {
					assert.ErrorIs(t, err, os.ErrNotExist)
				} else {
					assert.Equal(t, before, string(text))
				}
			}
			// A crontab that cannot be written ends the install, undone.
			account := w.Snapshot()
			require.NoError(t, os.WriteFile(program,
				[]byte("#!/bin/sh\n[ \"$1\" = -l ] && exit 0\necho 'You are not allowed to use this program' >&2; exit 1\n"),
				0o755))
			_, err := w.Install(sitetest.Request("slateroom", "slate-school.localhost"))
			assert.ErrorContains(t, err, "crontab cannot be written")
			sitetest.Same(t, account, w.Snapshot())
		})
	}
}
