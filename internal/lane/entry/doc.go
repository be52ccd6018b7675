// Package entry opens lanes: finds the folder, makes sure that it is the lane's, and ends whatever
// an earlier run has left unfinished.
//
// What Open returns has to be closed. Until then nobody else opens a lane of the same game.
package entry
