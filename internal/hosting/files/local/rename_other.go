//go:build !linux

package local

func (f *FS) rename(from, to string) error { return f.lookAndRename(from, to) }
