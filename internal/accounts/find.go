package accounts

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/helperpage"
	"tivset/internal/hosting/web"
	"tivset/internal/step"
)

// Found is what an account turns out to have.
type Found struct {
	Folders []string // that look like document roots, the likeliest first
	Shell   bool
	PHP     string // the program, where there is a shell
	Crontab string // likewise
	Tar     bool
}

// LoginFolder gives the folder in which one is after signing in, where the account's line
// tells; "" where it does not.
func (k *Keeper) LoginFolder(ctx context.Context, a *account.Account) (string, error) {
	in, err := k.Hosting.Open(ctx, a)
	if err != nil {
		return "", err
	}
	defer in.Close()
	if f, tells := in.Files.(interface {
		LoginFolder(context.Context) (string, error)
	}); tells {
		return f.LoginFolder(ctx)
	}
	return "", nil
}

// Find looks at an account's files for what its owner would have to type.
func (k *Keeper) Find(ctx context.Context, a *account.Account) (Found, error) {
	in, err := k.Hosting.Open(ctx, a)
	if err != nil {
		return Found{}, err
	}
	defer in.Close()
	var f Found
	if f.Folders, err = likelyRoots(ctx, in.Files); err != nil {
		return f, err
	}
	commander, ok := in.Programs()
	if !ok || a.Line().OwnMachine { // this machine's own programs are not the account's
		return f, nil
	}
	limited, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	out, err := commander.Command(limited, ".", []string{"sh", "-c",
		"for p in php crontab tar curl; do command -v $p; done; echo over"}, "")
	f.Shell = err == nil && strings.HasSuffix(strings.TrimSpace(string(out)), "over")
	if !f.Shell {
		return f, nil
	}
	for line := range strings.Lines(string(out)) {
		switch program := strings.TrimSpace(line); path.Base(program) {
		case "php":
			f.PHP = program
		case "crontab":
			f.Crontab = program
		case "tar":
			f.Tar = true
		}
	}
	return f, nil
}

// usualRoots are names that hostings give to document roots.
var usualRoots = []string{"public_html", "htdocs", "www", "html", "httpdocs", "web", "public"}

// likelyRoots lists folders that a domain may serve: those with a page in
// them, those of a usual name, those named like a domain; not deeper than two.
func likelyRoots(ctx context.Context, f files.FS) ([]string, error) {
	var likely, others []string
	var look func(folder string, deep int) error
	look = func(folder string, deep int) error {
		inside, err := f.List(ctx, folder)
		if err != nil {
			if folder != "." && (errors.Is(err, fs.ErrPermission) || errors.Is(err, fs.ErrNotExist)) {
				return nil
			}
			return err
		}
		page := slices.ContainsFunc(inside, func(i files.Info) bool { return strings.HasPrefix(i.Name, "index.") })
		named := slices.Contains(usualRoots, path.Base(folder)) ||
			strings.Contains(strings.Trim(path.Base(folder), "."), ".")
		switch {
		case folder == ".":
		case page:
			likely = append(likely, folder)
		case named || deep == 0 && slices.Contains(usualRoots, path.Base(path.Dir(folder))):
			others = append(others, folder)
		}
		for _, i := range inside {
			if i.IsDir() && deep > 0 && !strings.HasPrefix(i.Name, ".") && !page {
				if err := look(path.Join(folder, i.Name), deep-1); err != nil {
					return err
				}
			}
		}
		return nil
	}
	if err := look(".", 2); err != nil {
		return nil, err
	}
	return append(likely, others...), nil
}

// FoundWeb is what a domain of an account answers.
type FoundWeb struct {
	URL    string
	Leads  bool   // to the folder: a file put there came back
	PHP    string // the version that runs there, or ""
	Folder string // the account's folder as that PHP sees it, or ""
}

// FindWeb tries a domain: which address answers, whether it leads to its
// folder, and what PHP runs there. It puts files there for a moment.
func (k *Keeper) FindWeb(ctx context.Context, a *account.Account, d account.Domain) (FoundWeb, error) {
	var found FoundWeb
	for _, url := range slices.Compact([]string{d.URL, "https://" + d.Name, "http://" + d.Name}) {
		if url == "" {
			continue
		}
		try := *a
		try.Domains = []account.Domain{{Name: d.Name, Folder: d.Folder, URL: url, Connect: d.Connect}}
		if _, err := web.NewVisitor(hosting.Connections(&try)).Get(ctx, url+"/"); err == nil {
			found.URL = url
			a, d = &try, try.Domains[0]
			break
		}
	}
	if found.URL == "" {
		return found, fault.NewAs(fault.NoAnswer, fault.Failed, "the domain does not answer", d.Name,
			"Check its name; when it is new, wait until it leads to this hosting.")
	}
	in, err := k.Hosting.Open(ctx, a)
	if err != nil {
		return found, err
	}
	defer in.Close()
	proof := &step.ProveDomain{Tools: &step.Tools{In: in, Maker: k.Maker}, Folder: d.Folder, URL: found.URL}
	token, err := k.Maker.Token(24)
	if err != nil {
		return found, err
	}
	proof.Name = "tivset-" + token + ".txt"
	err = proof.Do(ctx)
	found.Leads = err == nil
	if undo := proof.Undo(context.WithoutCancel(ctx)); undo != nil || !found.Leads {
		return found, errors.Join(err, undo)
	}
	return found, k.findPHP(ctx, in, d, &found)
}

// findPHP has a helper page tell what PHP runs; none is fine.
func (k *Keeper) findPHP(ctx context.Context, in *hosting.Account, d account.Domain, found *FoundWeb) error {
	store := in.Store().Top()
	made, err := files.MkdirAll(ctx, in.Files, store, 0o700)
	if err != nil {
		return err
	}
	at, err := in.HelperPageAt(d)
	if err != nil {
		return err
	}
	sent, err := helperpage.Send(ctx, in.Files, in.Visitor(), at, k.Now())
	if err == nil {
		if told, lookErr := sent.Look(ctx, nil, nil); lookErr == nil {
			found.PHP, found.Folder = told.Version, told.Top
		}
	}
	err = errors.Join(err, in.TakeHelperPage(context.WithoutCancel(ctx), at))
	if made != "" {
		err = errors.Join(err, files.DropEmpty(context.WithoutCancel(ctx), in.Files, store))
	}
	return err
}

// TryServer signs in to a database server that an account may get, and says
// what it is and whether the user may create.
func (k *Keeper) TryServer(ctx context.Context, a *account.Account, d account.Database, l database.Login) (engine,
	version string, err error) {
	server, err := k.Hosting.OpenServer(ctx, a, &d, l)
	if err != nil {
		return "", "", err
	}
	defer server.Close()
	if engine, version, err = server.Version(ctx); err != nil {
		return engine, version, err
	}
	return engine, version, server.MayCreate(ctx)
}

// speed writes and reads a file, and words how fast that went.
func speed(ctx context.Context, f files.FS, name string, now func() time.Time) (string, error) {
	began := now()
	if _, err := f.Stat(ctx, path.Dir(name)); err != nil {
		return "", err
	}
	trip := now().Sub(began)
	content := make([]byte, 512<<10)
	began = now()
	err := files.Write(ctx, f, name, content, 0o600)
	took := now().Sub(began)
	if err == nil {
		err = f.Remove(ctx, name)
	}
	return fmt.Sprintf("%.1f MB a second, %d ms for a question", float64(len(content))/1e6/max(took.Seconds(), 1e-6),
		trip.Milliseconds()), err
}
