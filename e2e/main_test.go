//go:build unix

// Package e2e drives the built program as its users do: on the demo account,
// in a folder of its own.
package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"tivset/internal/app/fill"
	"tivset/internal/command"
	"tivset/internal/demo"
	"tivset/internal/standin/pages"
)

// The test binary doubles as the program, under several names: as it is;
// telling its exit code; dying at a certain moment; and minding signals.
func TestMain(m *testing.M) {
	fill.CheapHashes() // also in the program, which is this one again
	pages.CheapHashes()
	testscript.Main(m, map[string]func(){
		"tivset": func() { os.Exit(command.Main(context.Background(), os.Args[1:], command.System())) },
		"code": func() {
			code := command.Main(context.Background(), os.Args[1:], command.System())
			fmt.Fprintf(os.Stderr, "[exit %d]\n", code)
		},
		"tivset-dies":    dies,
		"tivset-minding": minding,
		"tivset-later":   later,
	})
}

// minding is the program with its handling of signals, as in cmd/tivset.
func minding() {
	ctx, stop := command.Context()
	defer stop()
	os.Exit(command.Main(ctx, os.Args[1:], command.System()))
}

// later is the program as long after today as LATER says.
func later() {
	world := command.System()
	world.Now = func() time.Time {
		d, _ := time.ParseDuration(os.Getenv("LATER"))
		return time.Now().Add(d)
	}
	os.Exit(command.Main(context.Background(), os.Args[1:], world))
}

// dies kills the program, as a power cut would, when it reads the clock for
// the n-th time: it does so before each line of the journal.
func dies() {
	world := command.System()
	n, _ := strconv.Atoi(os.Getenv("DIE_AT"))
	world.Now = func() time.Time {
		if n--; n == 0 {
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {}
		}
		d, _ := time.ParseDuration(os.Getenv("LATER"))
		return time.Now().Add(d)
	}
	os.Exit(command.Main(context.Background(), os.Args[1:], world))
}

func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata/script",
		Setup: func(env *testscript.Env) error {
			home := filepath.Join(env.WorkDir, "home")
			d, err := demo.Start(home)
			if err != nil {
				return err
			}
			env.Defer(func() { _ = d.Close() })
			env.Setenv("TIVSET_HOME", home)
			env.Setenv("ACCOUNT", d.Standin.Root)
			env.Setenv("LOCKSIDE", d.Domains[1].URL)
			env.Setenv("TERM", "xterm")
			env.Setenv("FINGERPRINT", d.Standin.SSH.Fingerprint())
			env.Setenv("PASSWORD", d.Password)
			if err := throughProxy(env); err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(env.WorkDir, "remote.yaml"), []byte(remote(d)), 0o600)
		},
		Cmds:          map[string]func(*testscript.TestScript, bool, []string){"snapshot": snapshot},
		UpdateScripts: os.Getenv("UPDATE_SCRIPTS") != "",
	})
}

// remote is the demo account as from a laptop.
func remote(d *demo.Demo) string {
	at := d.Standin.Web.Address()
	return fmt.Sprintf(`account: quillmere
files: sftp://quill@%s%s
login: {password: "env:PASSWORD"}
domains:
  - {name: lockside.localhost, folder: web/lockside, url: %q, connect: %q}
databases:
  - {name: main, engine: mariadb, server: "tunnel:%s", for-sites: "%[5]s", admin: {user: root, password: "env:PASSWORD"}}
`, d.Standin.SSH.Address(), d.Standin.Root, d.Domains[1].URL, at, d.Standin.Database.Address())
}

// snapshot NAME keeps what is in the account; the second time with the same
// name it fails unless all is as it was.
func snapshot(ts *testscript.TestScript, neg bool, args []string) {
	if len(args) != 1 {
		ts.Fatalf("usage: snapshot NAME")
	}
	now, err := accountNow(ts.Getenv("ACCOUNT"))
	ts.Check(err)
	name := ts.MkAbs("snapshot-" + args[0])
	before, err := os.ReadFile(name)
	if os.IsNotExist(err) {
		ts.Check(os.WriteFile(name, []byte(now), 0o600))
		return
	}
	ts.Check(err)
	if same := string(before) == now; same == neg {
		ts.Fatalf("the account was\n%s\nand is\n%s", before, now)
	}
}
