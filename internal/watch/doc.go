// Package watch waits for changes of lanes: for an update that the player lets in, or for anything
// that changes a held lane. It opens a lane to look at it, and closes it again at once.
package watch
