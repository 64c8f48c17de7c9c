package account

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"net/url"
	"path"
	"path/filepath"
	"strings"
)

// Line is a way to an account's files: what it is called in the account file,
// and what it can do. Nothing above the hosting wing asks for its name.
type Line struct {
	Scheme     string // as reach: begins
	Port       string // the usual one; "" where there is none
	Title      string // for people who choose one
	OwnMachine bool   // the files are on this machine
	Encrypted  bool   // nobody on the way can read along
	Shell      bool   // over SSH: programs can be run, and tunnels made
	Keys       bool   // one can sign in with a key
	Rooted     bool   // paths are those that the account's own programs see
}

// The lines. Another one is a value here, a folder in package files, and a case
// in package reach.
var (
	Local = Line{Scheme: "local", Title: "this machine is the account's own", OwnMachine: true, Encrypted: true,
		Rooted: true}
	SFTP = Line{Scheme: "sftp", Port: "22", Title: "SFTP", Encrypted: true, Shell: true,
		Keys: true, Rooted: true}
	FTPS = Line{Scheme: "ftps", Port: "21", Title: "FTPS, encrypted", Encrypted: true}
	FTP  = Line{Scheme: "ftp", Port: "21", Title: "FTP, readable by everybody on the way"}
)

// Lines lists the lines, the best first.
func Lines() []Line { return []Line{Local, SFTP, FTPS, FTP} }

// lineOf gives the line of a scheme, and whether there is one.
func lineOf(scheme string) (Line, bool) {
	for _, l := range Lines() {
		if l.Scheme == scheme {
			return l, true
		}
	}
	return Line{}, false
}

// Line gives the way to the account's files, as its reach says; the zero value
// for a reach that is none.
func (a *Account) Line() Line {
	scheme, _, _ := strings.Cut(a.Reach, ":")
	l, _ := lineOf(scheme)
	return l
}

// Remote is where the files of an account are that is not on this machine.
type Remote struct {
	User    string
	Address string // host:port
	// the account's folder on the server: from its root, or, over FTP and without a
	// leading slash, from the folder in which one is after signing in
	Top string
}

// Remote says where the files are when they are not on this machine; nil when
// they are.
func (a *Account) Remote() *Remote {
	r, err := a.remote()
	if err != nil {
		return nil
	}
	return r
}

func (a *Account) remote() (*Remote, error) {
	line := a.Line()
	u, err := url.Parse(a.Reach)
	if err != nil || line.Port == "" || u.Hostname() == "" || u.User.Username() == "" || !path.IsAbs(u.Path) ||
		u.RawQuery+
			u.Fragment != "" {
		return nil, fmt.Errorf("%q is not %s://USER@HOST:PORT/FOLDER", a.Reach, line.Scheme)
	}
	if _, has := u.User.Password(); has {
		return nil, errors.New("a password does not belong into reach; write it as login: {password: …}")
	}
	address := net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), line.Port))
	top := path.Clean(u.Path)
	switch {
	case !line.Shell:
		top = ftpFolder(u)
	case top == LoginFolder:
		top = "."
	}
	return &Remote{u.User.Username(), address, top}, nil
}

// LoginFolder is how, over SSH, the folder is written in which one is after signing in: for
// finding out which it is.
const LoginFolder = "/~"

// ftpFolder is the folder of an FTP address: what follows the slash after the
// host begins in the login folder, and another slash, or %2F, leads to the root
// (RFC 1738, 3.2.2).
func ftpFolder(u *url.URL) string {
	folder := strings.TrimPrefix(u.Path, "/")
	if strings.HasPrefix(strings.ToUpper(u.EscapedPath()), "/%2F") {
		folder = "/" + strings.TrimPrefix(folder, "/")
	}
	return path.Clean(folder)
}

// Top gives the account's folder, on this machine or on the server.
func (a *Account) Top() (string, error) {
	_, rest, _ := strings.Cut(a.Reach, ":")
	switch line := a.Line(); {
	case line.OwnMachine && filepath.IsAbs(rest):
		return filepath.Clean(rest), nil
	case line.OwnMachine:
		return "", fmt.Errorf("%q does not give a folder from the root", a.Reach)
	case line.Scheme != "":
		to, err := a.remote()
		if err != nil {
			return "", err
		}
		return to.Top, nil
	}
	return "", fmt.Errorf("%q is not a way to reach files", a.Reach)
}

// ServerTop gives the account's folder as its own programs see it; "" when
// that is not known: over FTP paths may begin anywhere.
func (a *Account) ServerTop() string {
	if a.Runtime.Folder != "" {
		return a.Runtime.Folder
	}
	if !a.Line().Rooted {
		return ""
	}
	top, err := a.Top()
	if err != nil {
		return ""
	}
	return top
}
