//go:build !unix

package trial

import "io/fs"

func ownedAs(fs.FileInfo, string) error { return nil }
