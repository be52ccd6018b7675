// Package lanes is about whole lanes: it makes, adopts, renames and removes them, lets them share
// folders, and switches between them. Folders are renamed and links are made; the files inside are
// changed by package change alone.
//
// Every step that could be cut off is noted before it begins; RecoverLanes, RecoverSwitch and
// RecoverShares finish it.
package lanes
