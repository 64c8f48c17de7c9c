// Package hosting opens hosting accounts and gives everything that belongs to
// one in one place: its files, its database servers, its pages as a visitor
// sees them, its PHP, its timers, and the layout of its store.
//
// It is the only room above its own wing that asks what a reach can do. It is
// not for deciding anything about a site: it knows no plan, no kit and no job,
// and never imports them. Its rooms are
//
//	account   the account file
//	place     addresses to domains and folders
//	reach     opening files and databases by the way that the account says
//	files     an account's files behind one interface, and each way to them
//	database  database servers behind one interface, and each engine
//	helper page   a PHP file that works in an account for a while
//	ssh, web  connections that the others share
package hosting
