package hosting

import (
	"crypto/sha256"
	"encoding/hex"
	"path"
	"strconv"
	"strings"
)

// Store is the layout of an account's store, from the account's top. It is
// described in docs/formats.md.
type Store string

// Store gives the layout of the account's store.
func (a *Account) Store() Store { return Store(a.Account.Store) }

// Top is the store's own folder.
func (s Store) Top() string { return string(s) }

// Stages holds what is made ready before it is put in place; Stage is a job's
// part of it.
func (s Store) Stages() string { return path.Join(s.Top(), "stage") }

// Stage is where a job makes things ready.
func (s Store) Stage(job string) string { return path.Join(s.Stages(), job) }

// Asides holds what was moved out of the way.
func (s Store) Asides() string { return path.Join(s.Top(), "aside") }

// Aside is where a job keeps what it moved out of the way or replaced.
func (s Store) Aside(job string) string { return path.Join(s.Asides(), job) }

// Kept is where a job keeps what its undo may have to put back, where another machine may have
// to undo it.
func (s Store) Kept(job string) string { return path.Join(s.Top(), "kept", job) }

// Busy holds the marks of places that are worked on.
func (s Store) Busy() string { return path.Join(s.Top(), "busy") }

// Mark is the file that says that somebody works at an address.
func (s Store) Mark(address string) string {
	sum := sha256.Sum256([]byte(address))
	return path.Join(s.Busy(), hex.EncodeToString(sum[:8])+".json")
}

// Hand is the file that says that a job is gone on with by a machine of this number.
func (s Store) Hand(job string, number int) string {
	return path.Join(s.Busy(), job+"."+strconv.Itoa(number))
}

// Timers holds the addresses that timers fetch.
func (s Store) Timers() string { return path.Join(s.Top(), "timers") }

// TimersOf is where a job keeps the addresses that a site's timers fetch.
func (s Store) TimersOf(job string) string { return path.Join(s.Timers(), job) }

// Backups is where the backups of an address are.
func (s Store) Backups(address string) string { return path.Join(s.Top(), "backups", Slug(address)) }

// Slug writes an address as one name of a file.
func Slug(address string) string { return strings.NewReplacer("/", "_", ":", "_").Replace(address) }
