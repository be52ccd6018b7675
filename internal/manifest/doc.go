// Package manifest holds the manifest: the list of files that makes up a build,
// a snapshot or any state a lane is to be brought to.
//
// Its encoding is canonical JSON (RFC 8785), so that equal content gives equal
// bytes, and its digest names exactly what it lists. A manifest holds nothing
// that differs between two computers; times and modes are kept beside it as
// Attributes.
//
// Everything that is decoded is validated first: a manifest that names a place
// outside the folder, or that some system could not hold, is never returned.
// The package reads and writes no files.
package manifest
