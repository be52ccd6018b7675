// Package fetch brings content from feeds into the store: Make plans what is missing and which ways
// there are to each piece, Run gets the pieces from local files, packs and several servers,
// and puts files together.
//
// A Plan belongs to one goroutine; Run uses several connections, and has ended all of them
// when it returns. What has arrived is kept in the store when it is cut off.
package fetch
