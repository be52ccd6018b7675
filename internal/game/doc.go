// Package game is Morvant's home, and the games that are registered in it.
//
// The home is a folder:
//
//	games/NAME.toml  the settings of a game; people edit them
//	state.db         what is remembered (package state)
//	cache.db         what was read of which files (package scan)
//	aliases.db       which content is meant by digests of distributors (package alias)
//	adapters/        programs that speak for distributors, for those called by name
//	store/           content (package store)
//	feeds/           copies of feeds (package feed)
//	locks/           one lock a game
//
// A Home has to be closed. Several processes may have it open, unless one needs it alone; a
// damaged state is put together again from its copies when it is opened. The package changes
// nothing in a game's folder.
package game
