// Package propose decides what a lane is to be brought to: a build with what lies over it, what it is held to, what was there before,
// an update, files of the player's from elsewhere. What comes of it is a proposal of package change, which carries it out.
package propose
