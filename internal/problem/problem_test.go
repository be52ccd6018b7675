package problem

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAdviceIsFoundInTheTreeOfAnError(t *testing.T) {
	busy := New("somebody is at it", TryAgain)
	err := errors.Join(errors.New("first"), fmt.Errorf("the store: %w", busy))
	require.ErrorIs(t, err, busy)
	require.Equal(t, TryAgain, Advice(err))
	require.Empty(t, Advice(errors.New("plain")))
	require.Empty(t, Advice(nil))
	require.NotErrorIs(t, New("a", "b"), New("a", "b"))
}
