// Command tivset installs web applications into hosting accounts.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"tivset/internal/command"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	code := command.Main(ctx, os.Args[1:], command.System())
	stop()
	os.Exit(code)
}
