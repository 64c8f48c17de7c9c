package site

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting/courier"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/web"
)

// proveDomain puts a file into the document root, fetches it from the domain
// as a visitor does, and takes it away: then both belong together.
type proveDomain struct {
	*env   `json:"-"`
	Folder string `json:"folder"`
	URL    string `json:"url"`
	Name   string `json:"name"`
}

func (*proveDomain) Kind() string  { return "prove-domain" }
func (*proveDomain) Title() string { return "See that the domain leads here" }

func (d *proveDomain) Do(ctx context.Context) error {
	token, err := d.Maker.Token(24)
	if err != nil {
		return err
	}
	text := "Tivset put this file here to see whether the domain leads to this folder: " + token + "\n"
	if err := files.Write(ctx, d.files, path.Join(d.Folder, d.Name), []byte(text), 0o644); err != nil {
		return err
	}
	if err := d.settled(ctx, func() error { return d.fetch(ctx, token) }); err != nil {
		return err
	}
	return d.Undo(ctx)
}

func (d *proveDomain) fetch(ctx context.Context, token string) error {
	page, err := web.NewVisitor(connections(d.account)).Get(ctx, d.URL+"/"+d.Name)
	if err != nil {
		return fault.New(fault.Failed, "the domain does not answer", d.URL, "Look at its name and its address in the account.").Because(err)
	}
	if page.Status != 200 || !strings.Contains(string(page.Body), token) {
		return fault.New(fault.Failed, fmt.Sprintf("the domain does not lead to this folder: a file put there answered %d", page.Status), d.URL+" and "+d.Folder,
			"Correct the folder of this domain in the account; when the domain is new, wait until it leads to this hosting.")
	}
	return nil
}

func (d *proveDomain) Undo(ctx context.Context) error {
	return dropFile(ctx, d.files, path.Join(d.Folder, d.Name))
}

func dropFile(ctx context.Context, f files.FS, name string) error {
	if err := f.Remove(ctx, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// setAside moves what is in the way into the account's store.
type setAside struct {
	*env    `json:"-"`
	From    string   `json:"from"`
	To      string   `json:"to"`
	Entries []string `json:"entries"`
}

func (*setAside) Kind() string  { return "set-aside" }
func (*setAside) Title() string { return "Set aside what is in the way" }

func (a *setAside) Do(ctx context.Context) error {
	if _, err := files.MkdirAll(ctx, a.files, a.To, 0o700); err != nil {
		return err
	}
	for n, name := range a.Entries {
		if err := a.files.Rename(ctx, path.Join(a.From, name), path.Join(a.To, name)); err != nil {
			return err
		}
		a.count(int64(n+1), int64(len(a.Entries)), "entries")
	}
	return nil
}

// Undo puts back what was moved. Where something stands in its place now, it
// stays in the store, and the error says so.
func (a *setAside) Undo(ctx context.Context) error {
	for _, name := range a.Entries {
		kept := path.Join(a.To, name)
		there, err := files.Exists(ctx, a.files, kept)
		if err != nil {
			return err
		}
		if !there {
			continue
		}
		if err := a.files.Rename(ctx, kept, path.Join(a.From, name)); err != nil {
			return fmt.Errorf("put %s back from %s: %w", path.Join(a.From, name), kept, err)
		}
	}
	return dropEmpty(ctx, a.files, a.To, path.Dir(a.To), path.Dir(path.Dir(a.To)))
}

// makeFolder makes the folder in which the app keeps the site's files.
type makeFolder struct {
	*env   `json:"-"`
	Folder string   `json:"folder"`
	Above  []string `json:"above"` // the folders made for it, innermost first

	Mode fs.FileMode `json:"-"` // 0750 when 0
}

func (*makeFolder) Kind() string    { return "make-folder" }
func (m *makeFolder) Title() string { return "Make the folder " + m.Folder }

// Prepare notes which of the folders above are not there yet.
func (m *makeFolder) Prepare(ctx context.Context) error {
	there, err := files.Exists(ctx, m.files, m.Folder)
	if err != nil {
		return err
	}
	if there {
		return fault.New(fault.Failed, "the folder for the site's files is there already", m.Folder, "Choose another data.folder, or leave it out and one is found.")
	}
	m.Above = nil
	for dir := path.Dir(m.Folder); dir != "."; dir = path.Dir(dir) {
		there, err := files.Exists(ctx, m.files, dir)
		if err != nil {
			return err
		}
		if !there {
			m.Above = append(m.Above, dir)
		}
	}
	return nil
}

func (m *makeFolder) Do(ctx context.Context) error {
	m.made = append(m.made, m.Above...)
	_, err := files.MkdirAll(ctx, m.files, m.Folder, cmp.Or(m.Mode, 0o750))
	return err
}

// Undo takes the folder away with all that the app wrote there.
func (m *makeFolder) Undo(ctx context.Context) error {
	if err := files.RemoveAll(ctx, m.files, m.Folder); err != nil {
		return err
	}
	return dropEmpty(ctx, m.files, m.Above...)
}

// useDatabase takes a database that somebody else made. What the set-up puts
// into it goes again on undo; what was there before stays.
type useDatabase struct {
	*env   `json:"-"`
	Server string   `json:"server"`
	Engine string   `json:"engine"`
	Name   string   `json:"name"`
	User   string   `json:"user"`
	Tables string   `json:"tables"`
	Secret string   `json:"secret"` // the vault's name of the password
	Before []string `json:"before"` // the tables that were there

	Place courier.Place `json:"place"` // where a courier can go, for a database seen only from inside
}

func (*useDatabase) Kind() string    { return "use-database" }
func (u *useDatabase) Title() string { return "Sign in to the database " + u.Name }

// Prepare lists what is there, and looks again that nothing would meet.
func (u *useDatabase) Prepare(ctx context.Context) error {
	data, err := u.openData(ctx)
	if err != nil {
		return err
	}
	defer data.Close()
	if u.Before, err = data.Tables(ctx); err != nil {
		return err
	}
	return meets(u.plan, u.Before)
}

func (*useDatabase) Do(context.Context) error { return nil }

func (u *useDatabase) Undo(ctx context.Context) error {
	server := u.account.Database(u.Server, u.Engine)
	if server == nil {
		return fmt.Errorf("the account has no database server %s any more", u.Server)
	}
	password, err := u.Vault.Get(u.Secret)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // its secrets went in an undo before, and the tables before them
	}
	if err != nil {
		return err
	}
	data, err := u.signIn(ctx, server, database.Login{Server: server.Server, User: u.User, Password: password, Database: u.Name}, u.Place)
	if err != nil {
		return err
	}
	defer data.Close()
	now, err := data.Tables(ctx)
	if err != nil {
		return err
	}
	var ours []string
	for _, t := range now {
		if !contains(u.Before, t) && strings.HasPrefix(strings.ToLower(t), strings.ToLower(u.Tables)) {
			ours = append(ours, t)
		}
	}
	return data.DropTables(ctx, ours)
}
