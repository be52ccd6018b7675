// Package compose composes the target of a lane: a build, its components, and what a pin adds
// (overlays, companions, edits), as one manifest with attributes. It reads the manifests of feeds,
// and plans and fetches content that is not in the store yet.
//
// Nothing here changes the lane's folder.
package compose
