// Package fetch brings content from feeds into the store: Make plans which pieces are missing and
// where each can come from; Run gets them from local files, packs and several servers, and puts
// the files together.
//
// A Plan belongs to one goroutine; Run uses several connections, and has ended all of them
// when it returns. What has arrived is kept in the store when it is cut off.
package fetch
