//go:build !linux

package servers

import "syscall"

func endsWithUs() *syscall.SysProcAttr { return ownGroup() }
