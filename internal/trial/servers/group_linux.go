package servers

import "syscall"

// endsWithUs has a program end when this one does, in whatever way (prctl(2), PR_SET_PDEATHSIG).
func endsWithUs() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
}
