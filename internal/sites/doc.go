// Package sites is what can be done with the list of recorded sites itself: show
// it, look at all of it again, enter one, and drop the record of one that is
// gone. It changes no site.
package sites
