package postgresql

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"tivset/internal/fault"
	"tivset/internal/hosting/backoff"
	"tivset/internal/hosting/database"
)

// explain turns a driver's error into a fault with a remedy, or into the
// errors that package database names (PostgreSQL manual, "Error Codes"). It
// never holds a password.
func explain(err error, login database.Login) error {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, database.ErrNoRow) {
		return err
	}
	where := login.User + " on " + login.Server
	var e *pgconn.PgError
	if errors.As(err, &e) {
		said := &saying{e}
		switch {
		case e.Code == "42P04" || e.Code == "42710": // duplicate database, duplicate role
			return fmt.Errorf("%w: %s", database.ErrTaken, e.Message)
		case strings.HasPrefix(e.Code, "28"): // no such role, wrong password, or none of pg_hba.conf
			return fault.NewAs(fault.SignInRefused, fault.Failed, "the database server refused the user or password", where,
				"Check both in the host's control panel and give the account again: "+
					fault.Call("account", "add", login.Account, "--from", "FILE", "--replace")).Wrap(said)
		case e.Code == "3D000":
			return fault.New(fault.Failed, "there is no database of this name", login.Database+" on "+login.Server,
				"Check the name in the host's control panel.").Wrap(said)
		case e.Code == "42501":
			return fault.New(fault.Failed, "the database user lacks a right", where,
				"Ask the host for a user who may create databases and roles.").Wrap(said)
		case e.Code == "53300":
			return fault.New(fault.Failed, "the database server has too many connections", login.Server,
				"Try again later.").Wrap(backoff.Of(said))
		case e.Code == "57P01" || e.Code == "57P02" || e.Code == "57P03": // shut down, crashed, starting
			return gone(login, said)
		}
		return said
	}
	if strings.Contains(err.Error(), "authentication method requirement") {
		return fault.NewAs(fault.UnknownServer, fault.NeedsConfirmation, "the database server wants the password in a way "+
			"that "+
			"shows it", where, "It was not sent. Have the user's password kept with scram-sha-256 (password_encryption); "+
			"when it "+
			"is already, somebody else answers in the server's place.").Wrap(err)
	}
	var network net.Error
	var dial *net.OpError
	if errors.As(err, &dial) || errors.As(err, &network) || errors.Is(err, os.ErrDeadlineExceeded) ||
		errors.Is(err, context.DeadlineExceeded) ||
		strings.Contains(err.Error(), "EOF") || strings.Contains(err.Error(), "conn closed") || pgconn.Timeout(err) {
		return gone(login, err)
	}
	var connect *pgconn.ConnectError
	if errors.As(err, &connect) {
		return gone(login, errors.Unwrap(connect))
	}
	return err
}

func gone(login database.Login, err error) error {
	return fault.NewAs(fault.NoAnswer, fault.Failed, "the database server does not answer", login.Server,
		"Check that it runs and that the address is right: "+fault.Call("account", "test",
			login.Account)).Wrap(database.Lost(err))
}

// saying words what the server said, which can still be told by its code.
type saying struct{ of *pgconn.PgError }

func (s *saying) Error() string {
	return fmt.Sprintf("the database server says: %s (%s)", s.of.Message, s.of.Code)
}

// Unwrap gives the server's own error.
func (s *saying) Unwrap() error { return s.of }
