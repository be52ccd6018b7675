//go:build !long

package entry

// rounds is how many random histories are tried.
const rounds = 4
