// Package guard sets and lifts the blocks of a lane's game, which keep a launcher from updating
// it. It notes what it finds before it changes anything, and later restores exactly that.
package guard
