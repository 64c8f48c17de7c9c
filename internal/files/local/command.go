package local

import (
	"bytes"
	"context"
	"fmt"
	"os/exec"
	"strings"
	"time"
)

// commandTime is for how long a program may run.
const commandTime = time.Minute

// Command implements files.Commander, in the account's folder.
func (f *FS) Command(ctx context.Context, args []string, input string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, commandTime)
	defer cancel()
	c := exec.CommandContext(ctx, args[0], args[1:]...)
	c.Dir = f.root.Name()
	c.Stdin = strings.NewReader(input)
	var said bytes.Buffer
	c.Stderr = &said
	out, err := c.Output()
	if err != nil {
		return out, fmt.Errorf("%w: %s", err, strings.TrimSpace(said.String()))
	}
	return out, nil
}
