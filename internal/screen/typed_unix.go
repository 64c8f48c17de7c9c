//go:build linux || darwin

package screen

import (
	"time"

	"golang.org/x/sys/unix"
)

// typedAhead says whether something can be read of a terminal within a time (poll(2)).
func typedAhead(fd int, within time.Duration) bool {
	set := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
	n, err := unix.Poll(set, int(within.Milliseconds()))
	return err == nil && n > 0
}
