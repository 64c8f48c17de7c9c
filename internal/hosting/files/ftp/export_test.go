package ftp

import "time"

// ReadListing reads a line both ways.
func ReadListing(line string) {
	fact(line)
	listed(line, time.Now())
}
