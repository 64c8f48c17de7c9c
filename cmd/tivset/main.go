// Command tivset installs web applications into hosting accounts.
package main

import (
	"os"
	"runtime/debug"

	"tivset/internal/command"
)

func main() {
	// Runs are short: collecting garbage seldom lists a thousand sites a sixth
	// faster, and the limit keeps a large install from growing for it.
	debug.SetGCPercent(400)
	debug.SetMemoryLimit(32 << 20)
	ctx, stop := command.Context()
	code := command.Main(ctx, os.Args[1:], command.System())
	stop()
	os.Exit(code)
}
