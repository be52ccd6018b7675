// Package entry opens lanes: it finds the folder, makes sure that it is the lane's, and finishes
// whatever an earlier run left unfinished.
//
// What Open returns has to be closed. Until then nobody else opens a lane of the same game.
package entry
