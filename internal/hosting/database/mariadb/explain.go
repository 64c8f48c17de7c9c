package mariadb

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"

	"github.com/go-sql-driver/mysql"

	"tivset/internal/fault"
	"tivset/internal/hosting/backoff"
	"tivset/internal/hosting/database"
)

// Error numbers of the servers (MariaDB manual, "MariaDB Error Codes").
const (
	cannotDatabase = 1044 // access denied to a database
	cannotSignIn   = 1045
	hasDatabase    = 1007
	cannotTable    = 1142
	cannotDo       = 1227
	cannotUser     = 1396 // CREATE USER failed: the user is there
	cannotGrant    = 1410
	hostRefused    = 1130
	hostBlocked    = 1129
	noDatabase     = 1049
	tooMany        = 1040
	tooManyOfUser  = 1203
	usedUp         = 1226 // a user has used up what may be done at once, or in an hour
)

// explain turns a driver's error into a fault with a remedy, or into the
// errors that package database names. It never holds a password.
func explain(err error, login database.Login) error {
	if err == nil {
		return nil
	}
	if errors.Is(err, context.Canceled) {
		return err
	}
	where := login.User + " on " + login.Server
	var e *mysql.MySQLError
	if errors.As(err, &e) {
		switch e.Number {
		case hasDatabase, cannotUser:
			return fmt.Errorf("%w: %s", database.ErrTaken, e.Message)
		case cannotSignIn:
			return fault.NewAs(fault.SignInRefused, fault.Failed, "the database server refused the user or password", where,
				"Check both in the host's control panel and give the account again: "+
					fault.Call("account", "add", login.Account, "--from", "FILE", "--replace")).Wrap(err)
		case noDatabase:
			return fault.New(fault.Failed, "there is no database of this name", login.Database+" on "+login.Server,
				"Check the name in the host's control panel.").Wrap(err)
		case tooMany, tooManyOfUser, usedUp:
			return fault.New(fault.Failed, "the database server has too many connections", where, "Try again later.").
				Wrap(backoff.Of(err))
		case hostRefused, hostBlocked:
			return fault.New(fault.Failed, "the database server takes no connections from this machine", where,
				"Have this machine's address allowed in the host's control panel.").Wrap(err)
		case cannotDatabase, cannotTable, cannotDo, cannotGrant:
			return fault.New(fault.Failed, "the database user lacks a right", where,
				"Ask the host for a user who may create databases and users, and grant rights on them.").Wrap(err)
		}
		return fmt.Errorf("the database server says: %w", err)
	}
	var dial *net.OpError
	gone := errors.As(err, &dial) || errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) ||
		errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, context.DeadlineExceeded) ||
		strings.Contains(err.Error(), "EOF")
	if gone {
		return fault.NewAs(fault.NoAnswer, fault.Failed, "the database server does not answer", login.Server,
			"Check that it runs and that the address is right: "+fault.Call("account", "test",
				login.Account)).Wrap(database.Lost(err))
	}
	return err
}
