// Package game remembers everything between runs: which games are registered and
// how they are set, which builds are known, what each lane is held to, and every
// change that was made to it.
//
// It lives in Morvant's home, a folder:
//
//	games/NAME.toml  the settings of a game; people edit them
//	state.db         builds, pins and history (SQLite)
//	cache.db         what was read of which files (package scan)
//	store/           content (package store)
//	locks/           one lock a game
//
// The package changes nothing in a game's folder.
package game
