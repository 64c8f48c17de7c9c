package command

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"tivset/internal/fault"
)

// atOnce is how long after the first signal another one counts as a second wish: some programs send two in a row.
const atOnce = 500 * time.Millisecond

// Context is that of a run: it ends when somebody interrupts the program, or ends it. A pipe that was closed, as by
// head, is no reason to cut a job off: what is written to it then is lost, and nothing else. Whoever interrupts or
// ends it once more ends it at once, wherever it is: what it had begun stays in its journal.
func Context() (context.Context, context.CancelFunc) {
	signal.Ignore(syscall.SIGPIPE)
	ctx, cancel := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	go func() {
		var first time.Time
		for s := range signals {
			switch {
			case first.IsZero():
				first = time.Now()
				cancel()
			case s != syscall.SIGHUP && time.Since(first) > atOnce: // a terminal that closes says so twice
				fmt.Fprintln(os.Stderr, "Ended at once. What was begun is left as it is; see: tivset jobs")
				os.Exit(int(fault.Incomplete))
			}
		}
	}()
	return ctx, cancel
}
