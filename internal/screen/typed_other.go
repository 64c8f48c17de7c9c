//go:build !linux && !darwin

package screen

import "time"

// resized is nothing that is told here.
func resized(func()) (stop func()) { return func() {} }

// typedAhead is not known how to find out here: a paste ends where the terminal says so.
func typedAhead(int, time.Duration) bool { return false }
