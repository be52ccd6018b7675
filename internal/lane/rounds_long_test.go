//go:build long

package lane

// rounds is how many random histories are tried.
const rounds = 200
