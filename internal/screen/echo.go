//go:build linux || darwin

package screen

import "golang.org/x/sys/unix"

// unseen switches a terminal's echo off (termios(3)) and gives what switches
// it on again; nil for what is no terminal.
func unseen(fd int) (restore func()) {
	before, err := unix.IoctlGetTermios(fd, getTerminal)
	if err != nil {
		return nil
	}
	without := *before
	without.Lflag &^= unix.ECHO
	if unix.IoctlSetTermios(fd, setTerminal, &without) != nil {
		return nil
	}
	return func() { _ = unix.IoctlSetTermios(fd, setTerminal, before) }
}
