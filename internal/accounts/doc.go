// Package accounts keeps the hosting accounts that this machine knows: adds and
// forgets them, tries whether every part of one works, finds out what its owner
// would have to type, and tells what is in one.
//
// It knows no way and no plan.
package accounts
