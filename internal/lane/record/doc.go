// Package record records files in the store: a snapshot of a lane or of any folder, an import of an
// archive or a folder. It also exports recorded builds to folders and archives. It only reads the
// lane's folder.
package record
