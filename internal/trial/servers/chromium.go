package servers

import (
	"context"
	"os/exec"
	"time"
)

// Chromium opens a page of this machine in a headless browser of its own, waits until its
// scripts have run, and gives the document as it is then. The browser asks nobody else for
// anything.
func Chromium(t Stage, page string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, Need(t, "chromium")[0], "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic",
		"--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync",
		"--user-data-dir="+folder(t), "--virtual-time-budget=2000", "--dump-dom", page)
	out, err := c.Output()
	if err != nil {
		t.Fatalf("chromium: %v", err)
	}
	return string(out)
}
