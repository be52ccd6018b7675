// Package change is the one way to change the files of a lane: a Propose function composes the
// state that the folder should have and makes a plan; CarryOut carries it out, records it, and does
// what follows. Recover ends one that was cut off.
//
// A Proposal is good for the lane as it was when it was made, and for one CarryOut. Of several
// lanes, one is changed at a time; the lock of the game sees to that.
package change
