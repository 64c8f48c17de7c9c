package ftp

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/certificates"
)

// Deadlines for a server that does not answer.
const (
	// ConnectTime is for making a connection and for signing in.
	ConnectTime = 15 * time.Second
	replyTime   = 60 * time.Second
)

// ctrlConn is one control connection (RFC 959), used by one call at a time.
type ctrlConn struct {
	conn   net.Conn
	text   *textproto.Conn
	hears  *limitedConn // what text reads from
	host   string       // where data connections lead too, whatever the server says
	data   *tls.Config  // nil without TLS
	offers map[string]string
	noEPSV bool
	folder string                   // in which it was told to be
	moving atomic.Pointer[net.Conn] // the data connection made last
}

// reply is a refusal of the server's.
type reply struct {
	code int
	text string
}

func (r *reply) Error() string { return fmt.Sprintf("the server says: %d %s", r.code, r.text) }

// codes that callers branch on (RFC 959, 4.2; RFC 2228).
const (
	codeReady     = 220
	codeSignedIn  = 230
	codePassword  = 331
	codeFurther   = 350
	codeClosing   = 421
	codeNoSpace   = 452
	codeNotDone   = 550
	codeQuota     = 552
	codeRefused   = 530
	codePassive   = 227
	codeExtended  = 229
	codeSecure    = 234
	codeMadeThere = 257
)

// longestReply is how much a server may say before it is spoken to again, in
// bytes.
const longestReply = 256 << 10

// limitedConn is a control connection over which no more comes than that.
type limitedConn struct {
	net.Conn
	left atomic.Int64
}

func speaking(conn net.Conn) *limitedConn {
	t := &limitedConn{Conn: conn}
	t.left.Store(longestReply)
	return t
}

func (t *limitedConn) Read(p []byte) (int, error) {
	if t.left.Load() <= 0 {
		return 0, fault.New(fault.Failed, fmt.Sprintf("the server answers with more than %d KB", longestReply>>10), "",
			"This is no usual FTP server; look at its address.")
	}
	n, err := t.Conn.Read(p[:min(int64(len(p)), t.left.Load())])
	t.left.Add(-int64(n))
	return n, err
}

// connect makes a control connection and signs in.
func connect(ctx context.Context, l Login, certs *certificates.Known) (*ctrlConn, error) {
	conn, err := (&net.Dialer{Timeout: l.wait()}).DialContext(ctx, "tcp", l.Address)
	if err != nil {
		return nil, err
	}
	host, _, err := net.SplitHostPort(l.Address)
	if err != nil {
		conn.Close()
		return nil, err
	}
	n := &ctrlConn{host: host}
	n.speakOver(conn)
	defer context.AfterFunc(ctx, n.close)()
	if err := n.begin(ctx, l, certs); err != nil {
		n.close()
		return nil, err
	}
	return n, nil
}

// server is the one whose certificate is judged.
func (l Login) server() certificates.Server {
	return certificates.Server{What: "FTP server", Address: l.Address, Account: l.Account}
}

// Trust keeps the certificate that a server shows now among those known, once its fingerprint is given, as
// certificates.Known.Accept does.
func Trust(ctx context.Context, known *certificates.Known, address, print string) (shown string, err error) {
	l := Login{Address: address, TLS: true}
	_, seen := connect(ctx, l, certificates.Seeing())
	return known.Accept(l.server(), seen, print)
}

// speakOver has the line go over a connection from now on.
func (n *ctrlConn) speakOver(conn net.Conn) {
	n.hears = speaking(conn)
	n.conn, n.text = conn, textproto.NewConn(n.hears)
}

func (n *ctrlConn) begin(ctx context.Context, l Login, certs *certificates.Known) error {
	n.within(l.wait())
	if _, err := n.expect(codeReady); err != nil {
		return err
	}
	if l.TLS {
		if err := n.secure(ctx, l, certs); err != nil {
			return err
		}
	}
	if err := n.signIn(l); err != nil {
		return err
	}
	n.offers = features(n)
	if _, utf8 := n.offers["UTF8"]; !utf8 {
		_, err := n.do("TYPE I")
		return err
	}
	if err := errors.Join(n.send("OPTS UTF8 ON"), n.send("TYPE I")); err != nil { // two at once
		return err
	}
	if _, _, err := n.text.ReadResponse(0); err != nil { // servers that are so already may refuse
		return err
	}
	_, err := n.expect(2)
	return err
}

// secure turns TLS on, for control and data (RFC 4217).
func (n *ctrlConn) secure(ctx context.Context, l Login, certs *certificates.Known) error {
	code, text, err := n.command("AUTH TLS")
	if err != nil {
		return err
	}
	if code != codeSecure {
		return fault.New(fault.Failed, "the FTP server offers no encryption", l.Address,
			"Ask the host for SFTP or FTPS. Only when there is neither, write ftp:// instead of ftps://: everybody on the "+
				"way can read along then.").Wrap(&reply{code, text})
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: n.host, ClientSessionCache: &oneSession{},
		InsecureSkipVerify: true, VerifyConnection: certs.Judge(l.server(), n.host)} // Judge verifies
	secured := tls.Client(n.conn, config)
	if err := secured.HandshakeContext(ctx); err != nil {
		return err
	}
	own := secured.ConnectionState().PeerCertificates[0]
	n.data = config.Clone()
	n.data.VerifyConnection = func(s tls.ConnectionState) error {
		if len(s.PeerCertificates) == 0 || !s.PeerCertificates[0].Equal(own) {
			return errors.New("the data connection shows another certificate")
		}
		return nil
	}
	n.speakOver(secured)
	if _, err := n.do("PBSZ 0"); err != nil {
		return err
	}
	_, err = n.do("PROT P")
	return err
}

// oneSession keeps the TLS session of the control connection, which servers
// want to see resumed by its data connections.
type oneSession struct{ state *tls.ClientSessionState }

func (o *oneSession) Get(string) (*tls.ClientSessionState, bool) { return o.state, o.state != nil }

func (o *oneSession) Put(_ string, s *tls.ClientSessionState) {
	if o.state == nil {
		o.state = s
	}
}

var tooMany = regexp.MustCompile(`(?i)too many|maximum|max\.? |limit|connections`)

func (n *ctrlConn) signIn(l Login) error {
	code, text, err := n.command("USER " + l.User)
	if err == nil && code == codePassword {
		code, text, err = n.command("PASS " + l.Password.Reveal())
	}
	switch {
	case err != nil:
		return err
	case code == codeSignedIn || code == 232 || code == 202:
		return nil
	case code == codeClosing || tooMany.MatchString(text):
		return &reply{codeClosing, text}
	}
	return &refused{&reply{code, text}}
}

// refused is a sign-in that the server will not have.
type refused struct{ cause *reply }

func (r *refused) Error() string { return r.cause.Error() }
func (r *refused) Unwrap() error { return r.cause }

// features asks what the server offers (RFC 2389).
func features(n *ctrlConn) map[string]string {
	out := map[string]string{}
	code, text, err := n.command("FEAT")
	if err != nil || code != 211 {
		return out
	}
	for _, f := range strings.Split(text, "\n") {
		name, rest, _ := strings.Cut(strings.TrimSpace(f), " ")
		out[strings.ToUpper(name)] = rest
	}
	return out
}

// within sets the deadline of what comes next.
func (n *ctrlConn) within(d time.Duration) { _ = n.conn.SetDeadline(time.Now().Add(d)) }

// close ends the connection, and what moves over another for it.
func (n *ctrlConn) close() {
	_ = n.conn.Close()
	if raw := n.moving.Load(); raw != nil {
		_ = (*raw).Close()
	}
}

// facts says whether the server knows MLST and MLSD (RFC 3659, 7.8).
func (n *ctrlConn) facts() bool {
	_, ok := n.offers["MLST"]
	return ok
}

func (n *ctrlConn) send(command string) error {
	if strings.ContainsAny(command, "\r\n\x00") {
		return errors.New("a line break or a zero byte cannot be said to an FTP server")
	}
	n.hears.left.Store(longestReply)
	// The line is one of Telnet, in which that byte begins a command unless it is doubled (RFC 959, 3.3; RFC 854).
	return n.text.PrintfLine("%s", strings.ReplaceAll(command, "\xff", "\xff\xff"))
}

// command sends a command and gives the reply, whatever it is.
func (n *ctrlConn) command(text string) (int, string, error) {
	if err := n.send(text); err != nil {
		return 0, "", err
	}
	return n.text.ReadResponse(0)
}

// do sends a command that must be done.
func (n *ctrlConn) do(text string) (string, error) {
	n.within(replyTime)
	if err := n.send(text); err != nil {
		return "", err
	}
	return n.expect(2)
}

// goTo makes a folder the one in which the connection is.
func (n *ctrlConn) goTo(full string) error {
	n.folder = ""
	_, err := n.do("CWD " + full)
	if err == nil {
		n.folder = full
	}
	return err
}

// expect reads a reply that begins with want: a code, or its first digit.
func (n *ctrlConn) expect(want int) (string, error) {
	code, text, err := n.text.ReadResponse(0)
	if err != nil {
		return "", err
	}
	if code != want && code/100 != want {
		return text, &reply{code, text}
	}
	return text, nil
}

var (
	extendedPort = regexp.MustCompile(`\(\|\|\|([0-9]{1,5})\|\)`)
	passivePort  = regexp.MustCompile(`([0-9]{1,3}),([0-9]{1,3})\)?\D*$`)
)

// passive asks the server for a data connection (RFC 2428; PASV of RFC 959 for
// servers without it). The address in PASV's reply is passed over: behind a
// router it is often wrong, and it could lead anywhere.
func (n *ctrlConn) passive() (address string, err error) {
	if !n.noEPSV {
		code, text, err := n.command("EPSV")
		if err != nil {
			return "", err
		}
		if m := extendedPort.FindStringSubmatch(text); code == codeExtended && m != nil {
			return net.JoinHostPort(n.host, m[1]), nil
		}
		if code == codeClosing {
			return "", &reply{code, text}
		}
		n.noEPSV = true
	}
	text, err := n.do("PASV")
	if err != nil {
		return "", err
	}
	m := passivePort.FindStringSubmatch(text)
	if m == nil {
		return "", &reply{codePassive, text}
	}
	high, _ := strconv.Atoi(m[1])
	low, _ := strconv.Atoi(m[2])
	return net.JoinHostPort(n.host, strconv.Itoa(high<<8+low)), nil
}

// open sends a command that moves data and makes the connection for it, both
// at once. A refusal that comes meanwhile cuts the connection, so that nobody
// waits for a server that will not take part.
func (n *ctrlConn) open(command string) (net.Conn, <-chan error, error) {
	n.within(replyTime)
	address, err := n.passive()
	if err != nil {
		return nil, nil, err
	}
	if err := n.send(command); err != nil {
		return nil, nil, err
	}
	raw, err := net.DialTimeout("tcp", address, ConnectTime)
	if err != nil {
		return nil, nil, fmt.Errorf("no data connection: %w", err)
	}
	begun := make(chan error, 1)
	go func() {
		_, err := n.expect(1)
		if err != nil {
			_ = raw.Close()
		}
		begun <- err
	}()
	n.moving.Store(&raw)
	if n.data == nil {
		return &dataConn{raw, n}, begun, nil
	}
	return &dataConn{tls.Client(raw, n.data), n}, begun, nil
}

// ended reads how a transfer ended; went is how it went at this end.
func (n *ctrlConn) ended(begun <-chan error, went error) error {
	n.within(replyTime)
	if err := <-begun; err != nil {
		return err
	}
	if _, err := n.expect(2); err != nil {
		return err
	}
	return went
}

// upload writes a file.
func (n *ctrlConn) upload(full string, content io.Reader) error {
	data, begun, err := n.open("STOR " + full)
	if err != nil {
		return err
	}
	_, went := io.Copy(data, content)
	return n.ended(begun, cmp.Or(went, data.Close()))
}

// download gives what a command such as RETR or MLSD sends.
func (n *ctrlConn) download(command string, into io.Writer) error {
	data, begun, err := n.open(command)
	if err != nil {
		return err
	}
	defer data.Close()
	if err := <-begun; err != nil {
		return err
	}
	over := make(chan error, 1)
	over <- nil
	taker := &taking{into: into}
	_, went := io.Copy(taker, data)
	if errors.Is(went, io.ErrUnexpectedEOF) {
		went = nil // servers end TLS without a word; the reply tells whether all came
	}
	data.Close()
	if ended := n.ended(over, went); taker.no == nil || lost(ended) && !answered(ended) {
		return ended
	}
	return &unwanted{taker.no} // whatever the server says of a transfer that was cut here
}

// answered says whether an error is something that the server said.
func answered(err error) bool {
	var said *reply
	return errors.As(err, &said)
}

// taking notes why what comes is not taken any more.
type taking struct {
	into io.Writer
	no   error
}

func (t *taking) Write(p []byte) (int, error) {
	n, err := t.into.Write(p)
	t.no = err
	return n, err
}

// unwanted is the error of a transfer whose receiver did not want more: nothing is wrong
// with the connection.
type unwanted struct{ cause error }

func (u *unwanted) Error() string { return u.cause.Error() }
func (u *unwanted) Unwrap() error { return u.cause }

// dataConn renews the deadlines while bytes move.
type dataConn struct {
	net.Conn
	line *ctrlConn
}

func (m *dataConn) renew() {
	_ = m.Conn.SetDeadline(time.Now().Add(replyTime))
	m.line.within(replyTime)
}

func (m *dataConn) Read(p []byte) (int, error) {
	m.renew()
	return m.Conn.Read(p)
}

func (m *dataConn) Write(p []byte) (int, error) {
	m.renew()
	return m.Conn.Write(p)
}

// Close ends the connection. One with TLS shakes hands first if it has not,
// as for an empty file: servers wait for it.
func (m *dataConn) Close() error {
	m.renew()
	if secured, ok := m.Conn.(*tls.Conn); ok {
		if err := secured.Handshake(); err != nil {
			_ = m.Conn.Close()
			return err
		}
	}
	return m.Conn.Close()
}
