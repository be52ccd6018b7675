// Package compose puts together what a lane is to be: a build, its components, and what a pin
// adds (overlays, companions, edits), to one manifest with attributes. What lies at a feed is read
// from there; content that is not in the store yet is planned and fetched here as well.
//
// Nothing here changes the lane's folder.
package compose
