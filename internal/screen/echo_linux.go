package screen

import "golang.org/x/sys/unix"

const (
	getTerminal = unix.TCGETS
	setTerminal = unix.TCSETS
)
