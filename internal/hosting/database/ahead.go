package database

import (
	"errors"
	"io"
)

// errEnded stops the reading of a script of which a statement failed.
var errEnded = errors.New("the script has ended")

// Ahead does what Statements does, and reads the next statement while one is
// run. It is not for scripts whose statements are followed by data.
func Ahead(script io.Reader, syntax Syntax, options ScriptOptions, run func(Statement) error) error {
	next, read, stop := make(chan Statement), make(chan error, 1), make(chan struct{})
	go func() {
		defer close(next)
		read <- Statements(script, syntax, options, func(s Statement) error {
			select {
			case next <- s:
				return nil
			case <-stop:
				return errEnded
			}
		})
	}()
	var failed error
	for s := range next {
		if failed = run(s); failed != nil {
			close(stop)
			break
		}
	}
	if err := <-read; failed == nil {
		failed = err
	}
	return failed
}
