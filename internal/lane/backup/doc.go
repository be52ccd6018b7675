// Package backup keeps the saves of a lane's game: before changes, on request, and when another
// lane goes live. Saves are outside of the lane; nothing here touches its folder.
package backup
