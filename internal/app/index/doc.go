// Package index is the format of catalogues that somebody publishes: an index that is
// signed, and a packed file for each kit. publish.go makes one, shelf.go keeps and
// follows one on an owner's machine.
//
// The signature is minisign's (https://jedisct1.github.io/minisign/), so that it can be
// checked without Tivset. Whoever holds the folder or the address of a catalogue, but
// not its key, can neither change a kit nor bring an older one back.
package index
