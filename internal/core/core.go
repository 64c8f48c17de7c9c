// Package core puts together everything that computes or acts, once: whoever
// runs it (the command line, a test, a worker) gives the world that it works in,
// and gets the rooms, each with what it needs and nothing else.
//
// It decides nothing. It knows no terminal, reads no environment and never ends
// the process.
package core

import (
	"context"
	"io/fs"
	"net/http"
	"path/filepath"
	"sync"
	"time"

	"tivset/internal/accounts"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/debian"
	"tivset/internal/app/release"
	"tivset/internal/check"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/runtime"
	"tivset/internal/notify/mail"
	"tivset/internal/plan"
	"tivset/internal/records/home"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/records/vault"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/sites"
	"tivset/internal/work"
	"tivset/internal/work/ways"
)

// World is what the core works in. What may be nil says so.
type World struct {
	Home      home.Home
	Catalogue *catalogue.Catalogue
	Ledger    ledger.Ledger
	Journals  job.JournalStore // nil for files of this machine
	Vault     vault.Keeper
	Maker     secret.Maker
	Now       func() time.Time
	Who       string          // user and machine, for others who find a job under way
	Order     int64           // of the queue, that is carried out; 0 for none
	Progress  func(job.Event) // may be nil
	Settle    time.Duration   // for how long a look at what has just changed is tried again
	Patience  time.Duration   // for how long an undo waits for a server that went away

	Download  *http.Client // fetches archives
	Apt       fs.FS        // where a machine's Debian archives are configured; may be nil
	Keyring   string       // the keys of Debian's archives
	Systemd   accounts.Systemd
	OwnMail   bool // this machine hands on mails by itself
	SendMail  func(ctx context.Context, server mail.Server, m mail.Message) error
	Notify    func(ctx context.Context, to, id string, event []byte) error
	Certified func(ctx context.Context, name, address string) (until time.Time, err error)
	TakesMail func(ctx context.Context, domain string) error
	Crontab   func(ctx context.Context, input string, args ...string) ([]byte, error) // this machine's; may be nil

	Forget   func(account string) // ends what is open of an account whose description changed
	Runtimes runtime.Set          // beside PHP

	OpenFiles   func(context.Context, *account.Account) (files.Closer, error)
	OpenServer  func(context.Context, *account.Account, *account.Database, database.Login) (database.Server, error)
	OpenSession func(context.Context, *account.Account, *account.Database, database.Login) (database.Session, error)
}

// Core is the rooms, put together.
type Core struct {
	Now func() time.Time // the clock of all rooms

	Book     *site.Book
	Hosting  *hosting.Opener
	Archives *release.Archives
	Planner  *plan.Planner
	Examiner *check.Examiner
	Desk     *work.Service
	Accounts *accounts.Keeper
	Sites    *sites.List
}

// In puts the rooms together in a world.
func In(w World) *Core {
	c := &Core{Now: w.Now}
	now := func() time.Time { return c.Now() }
	c.Book = &site.Book{Home: w.Home, Catalogue: w.Catalogue, Ledger: w.Ledger, Vault: w.Vault, Now: now,
		Journals: w.Journals}
	if w.Journals == nil {
		c.Book.Journals = job.Files(w.Home.Journals())
	}
	c.Hosting = &hosting.Opener{Passwords: w.Vault, Maker: w.Maker, Now: now, Settle: w.Settle, Certified: w.Certified,
		Runtimes: append(runtime.Set{runtime.PHP{}}, w.Runtimes...), OpenFiles: w.OpenFiles, OpenServer: w.OpenServer,
		OpenSession: w.OpenSession}
	c.Archives = Archives(w, now)
	w.Catalogue.Known = c.Archives.Known
	c.Archives.Accepted = c.Book.Made
	c.Planner = &plan.Planner{Book: c.Book, Hosting: c.Hosting, Archives: c.Archives, Maker: w.Maker, Now: now,
		TakesMail: w.TakesMail}
	c.Examiner = &check.Examiner{Book: c.Book, Hosting: c.Hosting, Archives: c.Archives, Maker: w.Maker, Now: now}
	c.Desk = &work.Service{Book: c.Book, Hosting: c.Hosting, Planner: c.Planner, Archives: c.Archives,
		Examiner: c.Examiner,
		Maker:    w.Maker, Now: now, Who: w.Who, Progress: w.Progress, Patience: w.Patience, Ways: ways.Table(),
		SendMail: w.SendMail, Notify: w.Notify, Order: w.Order}
	c.Accounts = &accounts.Keeper{Book: c.Book, Hosting: c.Hosting, Maker: w.Maker, Now: now, Let: w.Forget,
		OwnMail: w.OwnMail,
		Crontab: w.Crontab, Systemd: w.Systemd}
	c.Sites = &sites.List{Book: c.Book, Hosting: c.Hosting, Examiner: c.Examiner, Maker: w.Maker, Now: now}
	return c
}

// Archives are the archives of apps in a world.
func Archives(w World, now func() time.Time) *release.Archives {
	a := &release.Archives{Folder: w.Home.Archives(), Client: w.Download, Sources: w.Home.DebianSources(),
		Debian: &debian.Archive{Client: w.Download, Folder: filepath.Join(w.Home.Archives(), "debian"), Keyring: w.Keyring,
			Sources: sources(w), Now: now}}
	if w.Progress != nil {
		a.Told = fetching(w.Progress)
	}
	return a
}

// fetching shows what is fetched as a stage.
func fetching(show func(job.Event)) func(release.Telling) {
	var one sync.Mutex // sites are looked at side by side
	shown := ""
	return func(t release.Telling) {
		one.Lock()
		defer one.Unlock()
		if t.What != shown {
			show(job.Event{Title: t.What})
		}
		if shown = t.What; t.Done {
			shown = ""
		}
		if t.Done || t.Of > 0 {
			show(job.Event{Title: t.What, Count: t.N, Total: t.Of, Unit: "bytes", Done: t.Done})
		}
	}
}

// sources are the Debian archives that the owner named, and those that the machine is
// configured for. What cannot be read is as if it were not there: who needs an archive
// then is told that there is none.
func sources(w World) []debian.Source {
	own, _ := debian.Configured(w.Home.Debian())
	for i := range own {
		own[i].Own = true
	}
	if w.Apt == nil {
		return own
	}
	system, _ := debian.Configured(w.Apt)
	return append(own, system...)
}
