//go:build !long

package entry_test

// rounds is how many random histories are tried.
const rounds = 4
