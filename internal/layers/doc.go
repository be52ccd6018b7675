// Package layers answers what is to be at each path of a folder, and whose what is there is. What a folder is
// held to is a list of layers over nothing: the components of a build, what is left out of it, overlays and sets
// of mods, links, companions, edits, times. Above them stands the player, beneath them nobody. The package is
// pure: it knows no disk and no database.
//
// A kind of layer is one file: how it is laid, how it is lifted, and what it says of itself.
package layers
