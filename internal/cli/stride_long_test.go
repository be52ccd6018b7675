//go:build long

package cli_test

// stride thins the sweep over kill points; here every one is tried.
func stride(int) int { return 1 }

// least is how many kills a sweep must come to.
func least(n int) int { return n }
