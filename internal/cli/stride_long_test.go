//go:build long

package cli_test

import "testing"

// stride thins the sweep over kill points; here every one is tried.
func stride(int) int { return 1 }

// coarse is stride for what each package tries at every point as well.
func coarse(int) int { return 5 }

// some leaves out nothing of the groups of calls that a sweep has.
func some(groups []string) []string { return groups }

// least is how many kills a sweep must come to.
func least(n int) int { return n }

// onlyLong leaves out a sweep that is tried with -tags long alone: not here.
func onlyLong(*testing.T) {}
