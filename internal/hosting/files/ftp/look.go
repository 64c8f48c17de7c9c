package ftp

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/bounded"
	"tivset/internal/hosting/files"
)

// folder makes sure that a folder is one, and that no link leads to it.
func (f *FS) folder(n *ctrlConn, name string) error {
	if f.known.isFolder(name) {
		return nil
	}
	if err := f.folder(n, path.Dir(name)); err != nil {
		return err
	}
	info, err := f.glance(n, name)
	if err != nil {
		return err
	}
	if info.Mode&fs.ModeSymlink != 0 {
		return &fs.PathError{Op: "use", Path: name,
			Err: errors.New("it is a link, and over FTP nobody can tell whether it leads out of the account")}
	}
	if !info.IsDir() {
		return &fs.PathError{Op: "find", Path: name, Err: fs.ErrNotExist}
	}
	f.known.sawFolder(name)
	return nil
}

// stat describes what is at name, whose folder was looked at.
func (f *FS) stat(n *ctrlConn, name string) (files.Info, error) {
	if name == "." {
		return files.Info{Name: ".", Mode: fs.ModeDir | usualFolder}, nil
	}
	if !n.facts() {
		return f.look(n, name)
	}
	text, err := n.do("MLST " + f.full(name))
	if err != nil {
		return files.Info{}, toFSError("find", name, err)
	}
	for _, l := range strings.Split(text, "\n") {
		if info, ok := fact(strings.TrimLeft(l, " ")); ok && strings.Contains(l, "=") {
			info.Name = path.Base(name)
			if info.Mode.Perm() == 0o777 { // as links have, which some servers describe as what they lead to
				return f.look(n, name)
			}
			return info, nil
		}
	}
	return files.Info{}, toFSError("find", name, &reply{250, text})
}

// glance describes what is at name, as a listing has it that was made not long ago.
func (f *FS) glance(n *ctrlConn, name string) (files.Info, error) {
	if info, ok := f.known.seen(name); ok {
		return info, nil
	}
	defer f.known.turn(listingOf{path.Dir(name), true})()
	if info, ok := f.known.seen(name); ok { // somebody else listed it meanwhile
		return info, nil
	}
	return f.look(n, name)
}

// look describes what is at name by the listing of its folder: servers that
// follow links elsewhere show them there. A server whose listing cannot be
// read has no links that anybody could know of.
func (f *FS) look(n *ctrlConn, name string) (files.Info, error) {
	folder, began := path.Dir(name), time.Now()
	all, err := f.long(n, folder)
	if err == nil && len(all) == 0 && n.facts() {
		all, err = f.short(n, folder)
	}
	if err != nil {
		return files.Info{}, err
	}
	f.known.listed(listingOf{folder, true}, all, began)
	for _, i := range all {
		if i.Name == path.Base(name) {
			return i, nil
		}
	}
	return files.Info{}, &fs.PathError{Op: "find", Path: name, Err: fs.ErrNotExist}
}

// longestListing bounds what a server may send as a listing, in bytes.
const longestListing = 64 << 20

func (f *FS) list(n *ctrlConn, name string) ([]files.Info, error) {
	began, links := time.Now(), !n.facts()
	read := f.short
	if links {
		read = f.long
	}
	all, err := read(n, name)
	if err == nil {
		f.known.listed(listingOf{name, links}, all, began)
	}
	return all, err
}

// short lists a folder by MLSD (RFC 3659).
func (f *FS) short(n *ctrlConn, name string) ([]files.Info, error) {
	return transferred(n, name, "MLSD "+f.full(name), fact)
}

// long lists a folder by LIST. It goes there first: a path with spaces or a
// dash would be read as options.
func (f *FS) long(n *ctrlConn, name string) ([]files.Info, error) {
	if name != "." || n.folder != f.top { // any other folder may have been moved since, and the server with it
		if err := n.goTo(f.full(name)); err != nil {
			return nil, toFSError("list", name, err)
		}
	}
	now := time.Now()
	return transferred(n, name, "LIST -a", func(line string) (files.Info, bool) { return listed(line, now) })
}

func transferred(n *ctrlConn, name, command string, read func(string) (files.Info, bool)) ([]files.Info, error) {
	text := bounded.New(longestListing, fault.New(fault.Failed,
		fmt.Sprintf("the server sends a listing of more than %d MB", longestListing>>20), name,
		"Ask the host what is wrong with this FTP server."))
	if err := n.download(command, text); err != nil {
		return nil, toFSError("list", name, err)
	}
	var out []files.Info
	for _, l := range strings.Split(text.String(), "\n") {
		if info, ok := read(strings.TrimSuffix(l, "\r")); ok {
			info.Name = files.Escape(info.Name)
			out = append(out, info)
		}
	}
	slices.SortFunc(out, func(a, b files.Info) int { return cmp.Compare(a.Name, b.Name) })
	return out, nil
}
