// Package lane holds an open lane: one install of a game, its folder, its lock, its marker, and
// what it looks like.
//
// Package entry opens one. What is done with it stands in the packages below this one: compose
// (what a build is, put together), status (how the folder stands to it), record (snapshots),
// change (propose and carry out), guard (blocks), backup (saves); and in package lanes, which moves
// whole lanes.
//
// A Lane belongs to one goroutine, and has to be closed. Of the folder, this package writes
// nothing but the marker.
package lane
