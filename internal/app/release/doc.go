// Package release has the archives of releases: fetched and verified, kept in
// this machine's cache, read through once; and compares the files of a site
// with those of its release.
//
// It knows kits and files. It is not for unpacking (package archive) nor for
// deciding which release a site gets.
package release
