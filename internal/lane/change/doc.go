// Package change is the one way to change the files of a lane. A Propose function composes the
// target and makes a plan; CarryOut carries it out, records it, and does what follows. Recover
// finishes a change that was cut off.
//
// A Proposal is good for the lane as it was when it was made, and for one CarryOut. Of several
// lanes, one is changed at a time; the lock of the game sees to that.
package change
