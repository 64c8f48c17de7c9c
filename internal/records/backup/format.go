// Package backup writes and reads backups: a site's files and its database, of
// one moment, in one archive that any tar and zstd can open.
//
// A backup is a tar archive (POSIX pax) packed with Zstandard (RFC 8878), and
// where wanted encrypted with age. In this order it holds backup.json (what it
// is of), data/0001.sql and so on (pieces of one SQL script, in order),
// files/… (what the site has in its folder), outside/… (its folder outside of
// the web), and manifest.json with the SHA-256 of all before it. docs/formats.md
// describes it.
package backup

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Version is the version of the format.
const Version = 1

// The parts of a backup. A part is a folder of the archive.
const (
	Files   = "files"
	Outside = "outside"
	data    = "data"
)

const (
	headerName   = "backup.json"
	manifestName = "manifest.json"
)

// pieceBytes is how long one piece of the script is at most: a tar archive has
// to know the length of what it holds before it comes.
const pieceBytes = 4 << 20

// OnlyData is what Header.Only says of a backup of a database alone.
const OnlyData = "data"

// Header says what a backup is of.
type Header struct {
	Format  int             `json:"backup"` // Version
	MadeAt  time.Time       `json:"made_at"`
	Address string          `json:"address"`
	URL     string          `json:"url"`
	App     string          `json:"app"`
	Release string          `json:"release"`
	Engine  string          `json:"engine,omitempty"` // of the database, "" for none
	Only    string          `json:"only,omitempty"`   // OnlyData, or "" for a whole site
	Site    json.RawMessage `json:"site"`             // the whole record of the site
	// the site's passwords and keys, sealed with the key of the vault that made the backup
	Secrets  []byte   `json:"secrets,omitempty"`
	Warnings []string `json:"warnings,omitempty"`
}

// Item is one file of a backup.
type Item struct {
	Name   string `json:"name"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// manifest is the last file of a backup.
type manifest struct {
	Items []*Item `json:"items"`

	// a checksum of the items as JSON that only the vault can make that made the
	// backup
	Keyed []byte `json:"keyed,omitempty"`
}

// Summary is what a backup came to.
type Summary struct {
	Files  int   // the site's files
	Bytes  int64 // all that is in it, before packing
	Data   int64 // bytes of the script
	Packed int64 // bytes of the backup itself
	SHA256 string
}

// Errors that callers branch on.
var (
	// ErrDamaged matches what is no whole backup: cut short, or altered.
	ErrDamaged = errors.New("the backup is damaged")
	// ErrSealed means that the backup is encrypted, and no key given opens it.
	ErrSealed = errors.New("the backup is encrypted")
)

func damaged(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrDamaged, fmt.Sprintf(format, args...))
}
