package database

import (
	"database/sql/driver"
	"errors"
	"net"
	"os"
	"strings"
)

// Lost words, in few words, the error of a connection that is not there. It
// matches ErrGone.
func Lost(cause error) error { return lost{cause} }

type lost struct{ cause error }

func (l lost) Error() string {
	var dial *net.OpError
	var system *os.SyscallError
	switch {
	case errors.As(l.cause, &system):
		return system.Err.Error()
	case errors.As(l.cause, &dial):
		return dial.Err.Error()
	case errors.Is(l.cause, driver.ErrBadConn), strings.Contains(l.cause.Error(), "EOF"),
		strings.Contains(l.cause.Error(), "invalid connection"):
		return "the connection was cut"
	}
	return l.cause.Error()
}

func (l lost) Unwrap() error        { return l.cause }
func (l lost) Is(target error) bool { return target == ErrGone }

// Loopback says whether a server's address (host:port) is of this machine.
func Loopback(server string) bool {
	host, _, err := net.SplitHostPort(server)
	ip := net.ParseIP(host)
	return err == nil && (host == "localhost" || ip != nil && ip.IsLoopback())
}
