package mysqld

import (
	"bytes"
	"crypto/rand"
	"database/sql"
	"encoding/binary"
	"errors"
	"net"
	"strings"
	"time"
)

// Commands of clients.
const (
	comQuit            = 1
	comInitDB          = 2
	comQuery           = 3
	comPing            = 14
	comSetOption       = 27
	comResetConnection = 31
)

const nativePassword = "mysql_native_password"

// session is one connection.
type session struct {
	*wire
	server   *Server
	conn     net.Conn
	id       uint32
	user     account
	database string
	db       *sql.DB // the database's file, while one is in use
}

func newSession(s *Server, c net.Conn, id uint32) *session {
	return &session{wire: newWire(c), server: s, conn: c, id: id}
}

func (s *session) serve() {
	defer s.conn.Close()
	defer s.leave()
	if err := s.signIn(); err != nil {
		var e *sqlError
		if errors.As(err, &e) {
			s.fail(e)
			_ = s.flush()
		}
		return
	}
	for {
		if s.flush() != nil {
			return
		}
		packet, err := s.read()
		if err != nil || len(packet) == 0 || packet[0] == comQuit {
			return
		}
		s.command(packet[0], string(packet[1:]))
	}
}

func (s *session) command(code byte, rest string) {
	var err error
	switch code {
	case comPing, comResetConnection:
		s.ok(0, 0)
	case comSetOption:
		s.eof()
	case comInitDB:
		if err = s.use(rest); err == nil {
			s.ok(0, 0)
		}
	case comQuery:
		s.server.mu.Lock()
		observe := s.server.statement
		s.server.mu.Unlock()
		if observe != nil {
			observe(rest)
		}
		err = s.query(rest)
	default:
		err = refuse(1047, "08S01",
			"the stand-in's database server does not know command %d of the protocol (prepared statements among them)", code)
	}
	if err != nil {
		var e *sqlError
		if !errors.As(err, &e) {
			e = refuse(1105, "HY000", "%s", err.Error())
		}
		s.fail(e)
	}
}

// signIn is the connection phase with mysql_native_password.
func (s *session) signIn() error {
	_ = s.conn.SetReadDeadline(time.Now().Add(10 * time.Second))
	scramble := make([]byte, 20)
	if _, err := rand.Read(scramble); err != nil {
		return err
	}
	for i := range scramble { // no zero bytes: they end the scramble in the packet
		scramble[i] = scramble[i]%94 + 33
	}
	s.seq = 0
	s.write(s.greeting(scramble))
	if err := s.flush(); err != nil {
		return err
	}
	packet, err := s.read()
	if err != nil {
		return err
	}
	name, proof, database, plugin, err := readLogin(packet)
	if err != nil {
		return err
	}
	if plugin != nativePassword {
		s.write(append(append(append([]byte{0xfe}, nativePassword...), 0), append(scramble, 0)...))
		if err := s.flush(); err != nil {
			return err
		}
		if proof, err = s.read(); err != nil {
			return err
		}
	}
	user, ok := s.server.store.signIn(name, "127.0.0.1", scramble, proof)
	if !ok {
		return refuse(1045, "28000", "Access denied for user '%s'@'127.0.0.1'", name)
	}
	s.user = user
	_ = s.conn.SetReadDeadline(time.Time{})
	if database != "" {
		if err := s.use(database); err != nil {
			return err
		}
	}
	s.ok(0, 0)
	return nil
}

func (s *session) greeting(scramble []byte) []byte {
	p := append([]byte{10}, Version...)
	p = append(p, 0)
	p = binary.LittleEndian.AppendUint32(p, s.id)
	p = append(p, scramble[:8]...)
	p = append(p, 0)
	p = binary.LittleEndian.AppendUint16(p, capabilities&0xffff)
	p = append(p, charsetUTF8MB4)
	p = binary.LittleEndian.AppendUint16(p, statusAutocommit)
	p = binary.LittleEndian.AppendUint16(p, capabilities>>16&0xffff)
	p = append(p, byte(len(scramble)+1))
	p = append(p, make([]byte, 10)...)
	p = append(p, scramble[8:]...)
	p = append(p, 0)
	return append(append(p, nativePassword...), 0)
}

// readLogin takes a client's answer to the greeting apart.
func readLogin(p []byte) (user string, proof []byte, database, plugin string, err error) {
	bad := errors.New("the sign-in packet is too short")
	if len(p) < 33 {
		return "", nil, "", "", bad
	}
	flags := binary.LittleEndian.Uint32(p)
	p = p[32:]
	word := func() string {
		i := bytes.IndexByte(p, 0)
		if i < 0 {
			rest := string(p)
			p = nil
			return rest
		}
		w := string(p[:i])
		p = p[i+1:]
		return w
	}
	user = word()
	if len(p) == 0 {
		return "", nil, "", "", bad
	}
	size := int(p[0])
	if p = p[1:]; size > len(p) || size > 250 {
		return "", nil, "", "", bad
	}
	proof, p = p[:size], p[size:]
	if flags&capWithDatabase != 0 {
		database = word()
	}
	plugin = nativePassword
	if flags&capPluginAuth != 0 {
		plugin = word()
	}
	return user, proof, database, plugin, nil
}

// use changes the session's database.
func (s *session) use(name string) error {
	if !s.server.store.hasDatabase(name) || !s.server.store.may(s.user, name) {
		if s.user.all {
			return refuse(1049, "42000", "Unknown database '%s'", name)
		}
		return refuse(1044, "42000", "Access denied for user '%s'@'%s' to database '%s'", s.user.name, s.user.host, name)
	}
	s.leave()
	db, err := openSQLite(s.server.file(name))
	if err != nil {
		return err
	}
	s.db, s.database = db, name
	return nil
}

// leave closes the database's file.
func (s *session) leave() {
	if s.db != nil {
		_ = s.db.Close()
	}
	s.db, s.database = nil, ""
}

// query runs one statement and sends its answer.
func (s *session) query(text string) error {
	tokens, err := scan(text)
	if err != nil {
		return err
	}
	if len(tokens) > 0 && tokens[len(tokens)-1].is(";") {
		tokens = tokens[:len(tokens)-1]
	}
	if len(tokens) == 0 {
		return refuse(1065, "42000", "Query was empty")
	}
	if r, done, err := s.administer(tokens, text); done || err != nil {
		if err != nil {
			return err
		}
		s.answer(r)
		return nil
	}
	if s.db == nil {
		return refuse(1046, "3D000", "No database selected")
	}
	statements, err := translate(tokens)
	if err != nil {
		return err
	}
	return s.run(statements, text)
}

func (s *session) answer(r *result) {
	if r == nil {
		s.ok(0, 0)
		return
	}
	s.send(r)
}

func (s *session) run(statements []string, original string) error {
	var affected, insertID int64
	for _, statement := range statements {
		if reads(statement) {
			r, err := fetch(s.db, statement)
			if err != nil {
				return explain(err, original)
			}
			s.send(r)
			return nil
		}
		done, err := s.db.Exec(statement)
		if err != nil {
			return explain(err, original)
		}
		affected, _ = done.RowsAffected()
		insertID, _ = done.LastInsertId()
	}
	s.ok(affected, insertID)
	return nil
}

func reads(statement string) bool {
	first, _, _ := strings.Cut(strings.TrimLeft(statement, "( "), " ")
	return strings.EqualFold(first, "select") || strings.EqualFold(first, "with")
}

func explain(err error, statement string) error {
	m := err.Error()
	switch {
	case strings.Contains(m, "UNIQUE constraint"):
		return refuse(1062, "23000", "Duplicate entry: %s", m)
	case strings.Contains(m, "no such table"):
		return refuse(1146, "42S02", "Table doesn't exist: %s", m)
	case strings.Contains(m, "already exists"):
		return refuse(1050, "42S01", "Table already exists: %s", m)
	case strings.Contains(m, "no such column"):
		return refuse(1054, "42S22", "Unknown column: %s", m)
	}
	if len(statement) > 200 {
		statement = statement[:200] + "…"
	}
	return refuse(1064, "42000", "the stand-in's database server cannot run this statement (%s): %s", m, statement)
}
