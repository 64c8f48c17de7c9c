// Package question knows what an install can be told: each question with its
// group, its default, what is wrong with an answer, and when it applies, in the
// order in which people decide.
//
// It is pure. It is not for looking at an account (package plan does) nor for
// asking anybody (package talk does), and never imports what reads or writes
// anything.
package question
