package screen

import "golang.org/x/sys/unix"

const (
	getTerminal = unix.TIOCGETA
	setTerminal = unix.TIOCSETA
)
