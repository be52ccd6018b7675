//go:build !long

package cli_test

import "testing"

// stride thins the sweep over kill points: after the n-th one, 12n are passed over. With -tags
// long every one is tried.
func stride(n int) int { return 12 * n }

// coarse is stride for what each package tries at every point as well.
func coarse(n int) int { return stride(n) }

// some leaves out every second of the groups of calls that a sweep has.
func some(groups []string) []string {
	var list []string
	for i := 0; i < len(groups); i += 2 {
		list = append(list, groups[i])
	}
	return list
}

// least is how many kills a sweep must come to, of those that the whole one does.
func least(int) int { return 0 }

// onlyLong leaves out a sweep that is tried with -tags long alone.
func onlyLong(t *testing.T) {
	t.Helper()
	t.Skip("this sweep is tried with -tags long")
}
