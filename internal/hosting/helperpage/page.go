// Package helperpage puts a small PHP file into an account whose files are reached
// without a shell, and has it do there what would take long from here: unpack
// an archive, work in a database that is seen only from inside, tell what its
// PHP is.
//
// The file bears a name that nobody can guess, obeys only requests signed with
// a key made for it (ECDSA on P-256 with SHA-256; it holds the public half
// only), obeys each of them once, and stops for good after some minutes.
package helperpage

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/web"
)

//go:embed page.php
var source string

// Lifetime is for how long a helper page obeys, whatever becomes of its sender.
const Lifetime = 15 * time.Minute

// Page is one that was sent.
type Page struct {
	place   Place
	files   files.FS
	visitor *web.Visitor
	key     *ecdsa.PrivateKey
	count   atomic.Int64
}

// Place is where a helper page lies.
type Place struct {
	Root  string `json:"root"`           // the document root, from the account's top
	URL   string `json:"url"`            // its address, without a final slash
	Name  string `json:"name,omitempty"` // the helper page's file in the root
	Store string `json:"store"`          // a folder that the web does not serve, which is there
}

// File and State are the files of a helper page, from the account's top.
func (p Place) File() string  { return path.Join(p.Root, p.Name) }
func (p Place) State() string { return path.Join(p.Store, p.Name+".count") }

func (p Place) parts() string { return path.Join(p.Store, p.Name+".parts") }

// Send puts a helper page into its place. It has not been heard of yet.
func Send(ctx context.Context, f files.FS, v *web.Visitor, p Place, now time.Time) (*Page, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	public, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	if err != nil {
		return nil, err
	}
	text := strings.NewReplacer(
		"{key}", string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})),
		"{until}", strconv.FormatInt(now.Add(Lifetime).Unix(), 10),
		"{up}", strconv.Itoa(1+strings.Count(p.Root, "/")),
		"{state}", strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(p.State())).Replace(source)
	if err := files.Write(ctx, f, p.File(), []byte(text), 0o644); err != nil {
		return nil, err
	}
	return &Page{place: p, files: f, visitor: v, key: key}, nil
}

// Place is where the helper page lies.
func (c *Page) Place() Place { return c.place }

// End has the helper page take itself away, and makes sure that it is gone.
func (c *Page) End(ctx context.Context) error {
	var answer struct {
		Gone bool `json:"gone"`
	}
	if err := c.ask(ctx, map[string]any{"do": "end", "parts": c.place.parts()}, &answer); err == nil && answer.Gone {
		return nil
	}
	return Dismiss(ctx, c.files, c.place)
}

// For how long Dismiss waits for requests under way, which end when they see that
// the helper page is gone, and how often it looks.
const (
	endsWithin = 20 * time.Second
	looksEach  = 200 * time.Millisecond
)

// Dismiss takes away what a helper page was and wrote; nothing there is fine. What it
// is doing for a line that was cut it stops doing first.
func Dismiss(ctx context.Context, f files.FS, p Place) error {
	if err := files.Drop(ctx, f, p.File()); err != nil {
		return err
	}
	for end := time.Now().Add(endsWithin); ; {
		working, err := p.working(ctx, f)
		if err != nil {
			return err
		}
		if len(working) == 0 {
			break
		}
		if time.Now().After(end) { // it was killed, and could not say that it ended
			for _, name := range working {
				if err := files.Drop(ctx, f, name); err != nil {
					return err
				}
			}
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(looksEach):
		}
	}
	if err := files.Drop(ctx, f, p.State()); err != nil {
		return err
	}
	return files.RemoveAll(ctx, f, p.parts())
}

// working lists the files by which requests say that they are at work.
func (p Place) working(ctx context.Context, f files.FS) (out []string, err error) {
	inside, err := f.List(ctx, p.Store)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, i := range inside {
		if strings.HasPrefix(i.Name, path.Base(p.State())+".") {
			out = append(out, path.Join(p.Store, i.Name))
		}
	}
	return out, err
}

// ask has the helper page do something.
func (c *Page) ask(ctx context.Context, request map[string]any, answer any) error {
	request["n"], request["file"] = c.count.Add(1), c.place.Name
	body, err := json.Marshal(request)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(body)
	signed, err := ecdsa.SignASN1(rand.Reader, c.key, sum[:])
	if err != nil {
		return err
	}
	where := c.place.URL + "/" + c.place.Name
	page, err := c.visitor.Send(ctx, where, "X-Tivset", base64.StdEncoding.EncodeToString(signed), body)
	if err != nil {
		return fault.NewAs(fault.NoAnswer, fault.Failed, "the account's PHP does not answer", where,
			"Open the site's address in a browser; ask the host when it does not answer either.").Wrap(err)
	}
	var said struct {
		OK    bool   `json:"ok"`
		Error string `json:"error"`
	}
	if page.Status != http.StatusOK || json.Unmarshal(page.Body, &said) != nil {
		return &Silent{where, page.Status, bytes.Contains(page.Body, []byte("<?php"))}
	}
	if !said.OK {
		return fault.New(fault.Failed, "the account's PHP says: "+said.Error, c.place.Root,
			"Ask the host what its PHP may do.")
	}
	return json.Unmarshal(page.Body, answer)
}

// Silent means that a file of PHP, put into a document root, is not run there
// as PHP that can check a signature.
type Silent struct {
	Address string
	Status  int
	Shown   bool // its text is sent to everybody
}

func (s *Silent) Error() string {
	if s.Shown {
		return "PHP is not run for " + s.Address
	}
	return fmt.Sprintf("PHP cannot be asked at %s: it answered %d", s.Address, s.Status)
}

// Found is what a helper page tells of its PHP.
type Found struct {
	Version    string            `json:"version"`
	Extensions []string          `json:"extensions"`
	Functions  map[string]bool   `json:"functions"`
	Settings   map[string]string `json:"settings"`

	Top     string `json:"top"`     // the account's folder as PHP sees it
	Free    int64  `json:"free"`    // bytes left; -1 when it may not tell
	Owner   bool   `json:"owner"`   // what PHP writes belongs to whoever sent the helper page
	Unpacks bool   `json:"unpacks"` // it can read packed archives
}

// Look asks what the PHP is, with these functions and settings.
func (c *Page) Look(ctx context.Context, functions, settings []string) (Found, error) {
	var found Found
	err := c.ask(ctx, map[string]any{"do": "look", "functions": append([]string{}, functions...),
		"settings": append([]string{}, settings...)}, &found)
	return found, err
}

// Files are the account's files with the ability to unpack archives there.
func (c *Page) Files() files.FS { return &unpacking{c.files, c} }

type unpacking struct {
	files.FS
	page *Page
}

// atOnce is how many parts of an archive are under way at a time.
const atOnce = 3

// WriteParts implements files.PartWriter: each part goes up as a file, and the
// helper page unpacks it while the next goes up.
func (u *unpacking) WriteParts(ctx context.Context, folder string,
	write func(open func() (io.WriteCloser, error)) error) error {
	group, under := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	count := 0
	if err := u.Mkdir(ctx, u.page.place.parts(), 0o700); err != nil {
		return err
	}
	err := write(func() (io.WriteCloser, error) {
		count++
		name := path.Join(u.page.place.parts(), strconv.Itoa(count)+".tgz")
		to, err := u.Create(under, name, 0o600)
		if err != nil {
			return nil, err
		}
		return &part{to, func() { group.Go(func() error { return u.bring(under, to, name, folder) }) }}, nil
	})
	return errors.Join(err, group.Wait()) // the helper page takes each part away, and their folder with itself
}

// part is an archive that is brought when it is closed.
type part struct {
	io.Writer
	bring func()
}

func (p *part) Close() error {
	p.bring()
	return nil
}

// bring sends a part, and has it unpacked.
func (u *unpacking) bring(ctx context.Context, to io.Closer, name, folder string) error {
	if err := to.Close(); err != nil {
		return err
	}
	for at := 0; at >= 0; {
		var answer struct {
			At int `json:"at"`
		}
		if err := u.page.ask(ctx, map[string]any{"do": "unpack", "from": name, "to": folder, "at": at},
			&answer); err != nil {
			return err
		}
		at = answer.At
	}
	return nil
}

var _ files.PartWriter = (*unpacking)(nil)

// RemoveAll keeps the ability of the files underneath.
func (u *unpacking) RemoveAll(ctx context.Context, name string) error {
	return files.RemoveAll(ctx, u.FS, name)
}
