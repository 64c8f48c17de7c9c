//go:build !unix

package atomicfile

// SyncFolder has nothing to do where folders cannot be synced: there the rename is.
func SyncFolder(string) error { return nil }
