// Package kits holds the kits that come with the program.
package kits

import "embed"

// Files has one folder a kit.
//
//go:embed roundcube tt-rss
var Files embed.FS
