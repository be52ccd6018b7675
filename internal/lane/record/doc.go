// Package record takes a lane's files into the store: as a snapshot of the lane, or of any folder,
// and as what an archive or a folder brings. Sealed builds go out again here, to folders and
// archives. The lane's folder is read only.
package record
