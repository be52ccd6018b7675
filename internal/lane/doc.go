// Package lane holds a lane, one install of a game, and what can be done to it:
// look, snapshot, compare, pin, unpin, undo, verify and repair.
//
// There is one way to change a lane. Every Propose function composes the state
// the folder should have and makes a plan; Carry carries it out and records it.
// Nothing else in this package writes into the folder, but for the marker.
package lane
