// Package transfer brings builds and sets of mods in from folders, archives and lists, and takes builds out in open formats.
// What a lane itself holds, package record records.
package transfer
