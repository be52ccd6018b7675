//go:build !long

package cli_test

// stride thins the sweep over kill points; with -tags long every one is tried.
func stride(n int) int { return max(1, n/3) }
