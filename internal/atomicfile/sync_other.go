//go:build !unix

package atomicfile

// syncFolder has nothing to do where folders cannot be synced: there the rename is.
func syncFolder(string) error { return nil }
