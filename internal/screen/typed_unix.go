//go:build linux || darwin

package screen

import (
	"os"
	"os/signal"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// resized calls a function each time the terminal gets another size (SIGWINCH, signal(7)), until what it gives is
// called.
func resized(then func()) (stop func()) {
	told, ended := make(chan os.Signal, 1), make(chan struct{})
	signal.Notify(told, syscall.SIGWINCH)
	go func() {
		for {
			select {
			case <-told:
				then()
			case <-ended:
				return
			}
		}
	}()
	return func() {
		signal.Stop(told)
		close(ended)
	}
}

// typedAhead says whether something can be read of a terminal within a time (poll(2)).
func typedAhead(fd int, within time.Duration) bool {
	set := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
	n, err := unix.Poll(set, int(within.Milliseconds()))
	return err == nil && n > 0
}
