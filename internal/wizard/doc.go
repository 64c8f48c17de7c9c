// Package wizard is the conversations: in which order things are asked, the way
// back, what is folded away, what can be changed at the end.
//
// It asks through an interface, so that it runs without a terminal. It knows no
// question of an install: package question lists those that apply, with what is
// wrong with an answer, and is asked again after every one, since answers rule
// questions in and out. It never imports the screen or a command.
package wizard
