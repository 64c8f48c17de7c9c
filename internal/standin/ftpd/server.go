// Package ftpd is the stand-in's FTP server (RFC 959, with the extensions of
// RFC 2428, 3659 and 4217): one user, one folder, in clear or with TLS on the
// same port. It can be as odd as servers are, for tests.
package ftpd

import (
	"bufio"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"

	"tivset/internal/standin/lines"
)

// Options say who may sign in, and to what.
type Options struct {
	Address  string // 127.0.0.1:0 for a free port
	Folder   string // keeps the server's certificate
	Home     string // the account's folder, which the user sees as /
	User     string
	Password string
	Odd      Oddities
}

// Oddities are what servers are found to do.
type Oddities struct {
	Silent         bool   // takes connections and says nothing
	Lines          int    // how many connections there may be; 0 for any number
	CloseEachFile  bool   // hangs up after each file that it took
	Space          int64  // bytes that it takes until the disk is full; 0 for any number
	ReadOnly       string // a folder in which nothing can be changed
	NoFacts        bool   // knows neither MLST nor MLSD
	NoEPSV         bool
	NoModes        bool // knows no SITE CHMOD
	NoTLS          bool
	OtherAddressed bool // tells a wrong address in its answer to PASV
	EndlessListing bool
	LoseAfter      string // a verb whose next command is done, and the connection lost before that is said
}

// Server is a running server.
type Server struct {
	*lines.Listener
	options Options
	root    *os.Root
	tls     *tls.Config
	print   string

	mu    sync.Mutex
	odd   Oddities
	taken int64          // bytes of the files that came
	sent  int64          // bytes of listings
	tried int            // wrong passwords
	said  map[string]int // commands that came, by their verbs
}

// Start starts the server.
func Start(o Options) (*Server, error) {
	pair, err := certificate(o.Folder)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(o.Home)
	if err != nil {
		return nil, err
	}
	s := &Server{options: o, odd: o.Odd, root: root, said: map[string]int{},
		tls: &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}}
	sum := sha256.Sum256(pair.Certificate[0])
	s.print = "SHA256:" + strings.ReplaceAll(fmt.Sprintf("% X", sum[:]), " ", ":")
	if s.Listener, err = lines.Listen(o.Address, s.serve); err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return s, nil
}

// Fingerprint is that of the server's certificate.
func (s *Server) Fingerprint() string { return s.print }

// Be makes the server odd in another way from now on.
func (s *Server) Be(o Oddities) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.odd, s.taken = o, 0
}

// Refused says how many wrong passwords came.
func (s *Server) Refused() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.tried
}

// Listed says how many bytes of listings were sent.
func (s *Server) Listed() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.sent
}

// Commands says how many commands came since it was asked last, by their verbs.
func (s *Server) Commands() map[string]int {
	s.mu.Lock()
	defer s.mu.Unlock()
	said := s.said
	s.said = map[string]int{}
	return said
}

// Close ends the server.
func (s *Server) Close() error { return errors.Join(s.Listener.Close(), s.root.Close()) }

func (s *Server) serve(line net.Conn, open int) {
	s.mu.Lock()
	odd := s.odd
	s.mu.Unlock()
	switch {
	case odd.Lines > 0 && open > odd.Lines:
		_, _ = line.Write([]byte("421 Too many connections from your address\r\n"))
	case odd.Silent:
		_, _ = line.Read(make([]byte, 1))
	default:
		(&session{Server: s, conn: line, in: bufio.NewReader(line), odd: odd}).run()
	}
}

// session is one control connection.
type session struct {
	*Server
	conn    net.Conn
	in      *bufio.Reader
	odd     Oddities
	user    string
	over    bool // to be closed
	mute    bool // says nothing any more
	known   bool // signed in
	secure  bool // TLS on control
	private bool // and on data
	dir     string
	from    string // RNFR
	data    net.Listener
}

func (c *session) run() {
	defer c.closeData()
	c.say(220, "Stand-in ready")
	for !c.over {
		text, err := c.in.ReadString('\n')
		if err != nil {
			return
		}
		text = strings.ReplaceAll(text, "\xff\xff", "\xff") // of Telnet (RFC 854)
		verb, argument, _ := strings.Cut(strings.TrimRight(text, "\r\n"), " ")
		c.command(strings.ToUpper(verb), argument)
	}
}

func (c *session) say(code int, text string) {
	if !c.mute {
		fmt.Fprintf(c.conn, "%d %s\r\n", code, text)
	}
}

// loses says whether this is the connection that is to be lost.
func (c *session) loses() bool {
	c.Server.mu.Lock()
	defer c.Server.mu.Unlock()
	was := c.Server.odd.LoseAfter
	c.Server.odd.LoseAfter = ""
	return was != ""
}

// before is what somebody may say who has not signed in.
var before = map[string]func(*session, string){
	"USER": func(c *session, a string) { c.user = a; c.say(331, "Password, please") },
	"PASS": (*session).password,
	"AUTH": (*session).startTLS,
	"PBSZ": func(c *session, _ string) { c.say(200, "PBSZ=0") },
	"PROT": func(c *session, a string) { c.private = a == "P"; c.say(200, "Protection "+a) },
	"FEAT": (*session).features,
	"OPTS": func(c *session, _ string) { c.say(200, "As you like") },
	"NOOP": func(c *session, _ string) { c.say(200, "Done nothing") },
	"QUIT": func(c *session, _ string) { c.say(221, "Goodbye"); c.over = true },
}

func (c *session) command(verb, argument string) {
	c.mu.Lock()
	c.said[verb]++
	c.mu.Unlock()
	if do, ok := before[verb]; ok {
		do(c, argument)
		return
	}
	if !c.known {
		c.say(530, "Sign in first")
		return
	}
	if verb == c.odd.LoseAfter && c.loses() {
		c.mute, c.over = true, true
	}
	if do, ok := commands[verb]; ok {
		do(c, argument)
		return
	}
	c.say(500, verb+" is not known here")
}

func (c *session) password(given string) {
	if c.user != c.options.User || subtle.ConstantTimeCompare([]byte(given), []byte(c.options.Password)) != 1 {
		c.mu.Lock()
		c.tried++
		c.mu.Unlock()
		c.say(530, "Login incorrect")
		return
	}
	c.known = true
	c.say(230, "Signed in")
}

func (c *session) startTLS(how string) {
	if how != "TLS" || c.odd.NoTLS {
		c.say(502, "Not offered here")
		return
	}
	c.say(234, "Go on with TLS")
	secured := tls.Server(c.conn, c.tls)
	if err := secured.Handshake(); err != nil {
		c.over = true
		return
	}
	c.conn, c.in, c.secure = secured, bufio.NewReader(secured), true
}

func (c *session) features(string) {
	all := []string{"UTF8"}
	if !c.odd.NoFacts {
		all = append(all, "MLST type*;size*;modify*;UNIX.mode*;")
	}
	if !c.odd.NoTLS {
		all = append(all, "AUTH TLS", "PBSZ", "PROT")
	}
	fmt.Fprintf(c.conn, "211-Features:\r\n %s\r\n211 End\r\n", strings.Join(all, "\r\n "))
}

// name is a path of the client as one below the root.
func (c *session) name(given string) string {
	if !strings.HasPrefix(given, "/") {
		given = path.Join(c.dir, given)
	}
	clean := strings.TrimPrefix(path.Clean("/"+given), "/")
	if clean == "" {
		return "."
	}
	return filepath.FromSlash(clean)
}

// locked says whether nothing may be changed at name.
func (c *session) locked(name string) bool {
	o := c.odd.ReadOnly
	return o != "" && (name == o || strings.HasPrefix(name, o+"/"))
}
