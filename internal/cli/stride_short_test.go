//go:build !long

package cli_test

// stride thins the sweep over kill points: after the n-th one, 12n are passed over. With -tags
// long every one is tried.
func stride(n int) int { return 12 * n }

// least is how many kills a sweep must come to, of those that the whole one does.
func least(int) int { return 0 }
