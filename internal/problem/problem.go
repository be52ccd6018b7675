// Package problem is what the errors of all packages share: an error may carry advice, one sentence
// that tells the player what to do.
//
// Advice names no commands: only the command line knows those, and has advice of its own for
// the errors that need them.
package problem

import "errors"

// ErrNewer is the family of errors about what a newer version has written.
var ErrNewer = New("written by a newer Morvant", "Use that newer version here; this one has changed nothing")

// TryAgain is the advice where somebody else is at work.
const TryAgain = "Try again when it has finished"

type advised struct{ text, advice string }

func (e *advised) Error() string  { return e.text }
func (e *advised) Advice() string { return e.advice }

// New returns an error to test for, as errors.New does, that carries advice.
func New(text, advice string) error { return &advised{text, advice} }

// Advice returns the first advice in the tree of an error; empty if there is none.
func Advice(err error) string {
	var with interface{ Advice() string }
	if errors.As(err, &with) {
		return with.Advice()
	}
	return ""
}
