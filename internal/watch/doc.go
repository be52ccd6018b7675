// Package watch waits for what happens to lanes: an update that is let in, or anything that
// changes one which is held. It opens a lane to look at it, and closes it again at once.
package watch
