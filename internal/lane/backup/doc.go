// Package backup keeps the saves of a lane's game: before changes, on request, and where another
// lane takes over. Saves lie outside of the lane; nothing here touches its folder.
package backup
