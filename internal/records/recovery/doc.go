// Package recovery keeps what opens records and backups again on another machine, when this one is lost: the
// vault and its key, accounts, the ledger, journals, known servers. It is one file, locked with a passphrase.
//
// The file is a tar (POSIX.1-2001) of key.age and records.age, both of age-encryption.org/v1. key.age holds an
// X25519 identity and is locked with the passphrase (scrypt); records.age is a tar of the files, encrypted to that
// identity. So the records can be brought up to date without the passphrase, and whoever has age opens them by
// hand:
//
//	tar xf FILE && age -d key.age > key && age -d -i key records.age | tar x
//
// It never sends the file anywhere: where it is safe is the owner's to say.
package recovery
