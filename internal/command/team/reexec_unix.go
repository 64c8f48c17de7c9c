//go:build unix

package team

import (
	"os"
	"syscall"
)

// reexec puts the program, called with other words, in the place of this process. It returns
// only where that fails.
func reexec(words []string) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	return syscall.Exec(program, append([]string{os.Args[0]}, words...), os.Environ())
}
