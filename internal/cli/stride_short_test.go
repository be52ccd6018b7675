//go:build !long

package cli_test

// stride thins the sweep over kill points; one in 4n is tried. With -tags long every one is.
func stride(n int) int { return 4 * n }
