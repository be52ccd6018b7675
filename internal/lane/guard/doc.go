// Package guard sets and lifts the blocks of a lane's game: what keeps a launcher from updating
// it. What is found is noted before it is changed, and put back just as it was.
package guard
