package app

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/problem"
)

func TestEveryRemedyIsACommand(t *testing.T) {
	for _, r := range problem.Remedies() {
		require.Contains(t, remedies, r)
		require.Equal(t, "see "+remedies[r]+".", Commands(fmt.Sprintf("see %s.", r)))
	}
	require.Len(t, remedies, len(problem.Remedies()))
	require.Equal(t, "(morvant history output 12 has what it said)", Commands(fmt.Sprintf("(%s %d has what it said)", problem.OutputOf, 12)))
	require.Equal(t, "a repair is no remedy by itself", Commands("a repair is no remedy by itself"))
}
