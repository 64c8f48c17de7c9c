// Package draft reads an app that nobody wrote a kit for yet, and writes the first draft
// of one: what it needs, where its configuration, its tables and its pages are. What
// cannot be told from the files stands in the draft as a question to its author.
//
// Everything here is a guess from names and texts, made for people to correct; nothing of
// the app is run.
package draft
