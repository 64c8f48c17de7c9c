// Package batch is the one way of one site and of many: what is asked of each site is a request; all of
// them are looked at before anything is touched, what is wrong with any comes back at once, and once
// they were agreed to they are carried out side by side, as many as account, host, database server
// and machine bear. One that fails is undone, and the others go on.
//
// It knows no operation: requests bring their own (work/requests).
package batch
