// Package site is the noun: an app at a place, with its kit, its release, its
// data, its admin and its secrets, whatever brought it there.
//
// A Site is made of a record (Book.From), or by a plan for one that is not there
// yet; nobody fills one halfway. The package also finds recorded sites by what
// people call them, says which files below a site's folder belong to others, and
// gives the values that a kit's texts can name.
//
// It changes nothing, and knows no plan, no step and no way.
package site
