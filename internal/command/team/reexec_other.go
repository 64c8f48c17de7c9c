//go:build !unix

package team

import "errors"

// anew cannot put a program in the place of this process here.
func reexec([]string) error { return errors.ErrUnsupported }
