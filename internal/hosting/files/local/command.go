package local

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"tivset/internal/hosting/bounded"
	"tivset/internal/hosting/files"
	"tivset/internal/logs"
)

// commandTime is for how long a program may run at most.
const commandTime = 10 * time.Minute

// How much a program may write, in bytes; of what it says when it fails, the beginning is kept.
const (
	longestOutput    = 64 << 20
	longestComplaint = 64 << 10
)

// Command implements files.Commander. Root runs programs as the user to whom the account's folder belongs, or, where
// that is root, the one below it in which it runs: what they write is the account's. The folder is entered as it was
// opened, whatever is of its name by then.
func (f *FS) Command(ctx context.Context, folder string, args []string, input string) (_ []byte, err error) {
	defer logs.Asked(ctx, "files", "run a program", folder, args[0])(&err)
	if err := files.Valid(folder); err != nil {
		return nil, err
	}
	there, err := f.folder(folder)
	if err != nil {
		return nil, missing(err)
	}
	defer there.Close()
	info, err := there.Stat()
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, commandTime)
	defer cancel()
	c := exec.CommandContext(ctx, args[0], args[1:]...)
	if c.Dir, err = entered(there, filepath.Join(f.root.Name(), filepath.FromSlash(files.Raw(folder)))); err != nil {
		return nil, err
	}
	c.SysProcAttr = f.as(info)
	c.Env = environment(f.root.Name())
	c.WaitDelay = time.Second // for children of it that keep its output open
	c.Stdin = strings.NewReader(input)
	out, said := bounded.New(longestOutput, nil), bounded.Beginning(longestComplaint)
	c.Stdout, c.Stderr = out, said
	err = c.Run()
	switch {
	case ctx.Err() != nil:
		return out.Bytes(), ctx.Err()
	case out.Exceeded():
		return out.Bytes(), fmt.Errorf("%w: more than %d MB", bounded.ErrTooMuch, longestOutput>>20)
	case err != nil:
		return out.Bytes(), fmt.Errorf("%w: %s", err, strings.TrimSpace(said.String()))
	}
	return out.Bytes(), nil
}

// environment is what the account's programs get: what a program needs to run,
// and nothing of the operator's, in which passwords may be.
func environment(home string) []string {
	return []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME=" + home, "LANG=C.UTF-8",
		"LC_ALL=C.UTF-8"}
}
