package command

import (
	"context"
	"os"
	"os/signal"
	"syscall"
)

// Context is that of a run: it ends when somebody interrupts the program. A pipe
// that was closed, as by head, is no reason to cut a job off: what is written to
// it then is lost, and nothing else.
func Context() (context.Context, context.CancelFunc) {
	signal.Ignore(syscall.SIGPIPE)
	return signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
}
