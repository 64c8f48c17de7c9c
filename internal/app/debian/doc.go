// Package debian makes the archive of an app from packages of a Debian archive:
// signed indexes are read and verified, packages fetched, and what of them is to
// be taken is put together by a kit's recipe, to the same bytes on every machine.
//
// The formats are those of the Debian Repository Format (wiki.debian.org/
// DebianRepository/Format), deb(5), deb822(5) and sources.list(5). No mirror's
// name stands here: it comes from the machine's configuration, or its owner's.
package debian
