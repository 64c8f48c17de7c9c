package local

import (
	"bytes"
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"tivset/internal/hosting/files"
)

// commandTime is for how long a program may run at most.
const commandTime = 10 * time.Minute

// Command implements files.Commander. Root runs programs as the user to whom
// the folder belongs: what they write is the account's.
func (f *FS) Command(ctx context.Context, folder string, args []string, input string) ([]byte, error) {
	if err := files.Valid(folder); err != nil {
		return nil, err
	}
	info, err := f.root.Stat(filepath.FromSlash(folder))
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, commandTime)
	defer cancel()
	c := exec.CommandContext(ctx, args[0], args[1:]...)
	c.Dir = filepath.Join(f.root.Name(), filepath.FromSlash(folder))
	c.SysProcAttr = as(info)
	c.Env = environment(f.root.Name())
	c.WaitDelay = time.Second // for children of it that keep its output open
	c.Stdin = strings.NewReader(input)
	var said bytes.Buffer
	c.Stderr = &said
	out, err := c.Output()
	if ctx.Err() != nil {
		return out, ctx.Err()
	}
	if err != nil {
		return out, fmt.Errorf("%w: %s", err, strings.TrimSpace(said.String()))
	}
	return out, nil
}

// environment is what the account's programs get: what a program needs to run,
// and nothing of the operator's, in which passwords may be.
func environment(home string) []string {
	return []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME=" + home, "LANG=C.UTF-8",
		"LC_ALL=C.UTF-8"}
}
