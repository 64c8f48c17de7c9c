//go:build unix

package servers

import (
	"os"
	"syscall"
)

// ownGroup has a program get no interrupt that is for this one.
func ownGroup() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }

// end asks a program and its children to end, or ends them now.
func end(p *os.Process, now bool) {
	how := syscall.SIGTERM
	if now {
		how = syscall.SIGKILL
	}
	_ = syscall.Kill(-p.Pid, how)
}
