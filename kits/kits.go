// Package kits holds the kits that come with the program.
package kits

import "embed"

// Files has one folder a kit.
//
//go:embed davical kanboard phpliteadmin phpmyadmin postfixadmin roundcube shaarli spip tt-rss zoph
var Files embed.FS
