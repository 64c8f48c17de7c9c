// Package work is how a site's ways are carried out: the job, its journal, its
// undo and its resume, written once for all ways.
//
// A way (install, update, move …) is a folder below this one and a line in the
// table of package ways. It plans what it is about to do, gives the job's list
// of steps, and knows how to do the same again; everything else about jobs reads
// the table.
//
// Ways do not import each other, but for restore, which places and finds
// backups, and place, whose moves end with a removal. Nothing here knows a
// command or a screen.
package work
