// Package app is one run of the program, as all commands share it: its arguments, where it writes, how
// it asks, how far work has come (the meter), secrets, and how a command comes to a home, a game, a lane.
//
// Commands stand in the packages beside this one, by the groups in which help lists them; they
// use this package, view, find and proposal, and never each other.
package app
