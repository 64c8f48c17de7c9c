// Command tivset installs web applications into hosting accounts.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"tivset/internal/command"
)

func main() {
	// Runs are short: collecting garbage seldom lists a thousand sites a sixth
	// faster, and the limit keeps a large install from growing for it.
	debug.SetGCPercent(400)
	debug.SetMemoryLimit(32 << 20)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	code := command.Main(ctx, os.Args[1:], command.System())
	stop()
	os.Exit(code)
}
