//go:build !windows

package apply

import (
	"os"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

func ownerOf(t *testing.T, name string) int {
	t.Helper()
	info, err := os.Lstat(name)
	require.NoError(t, err)
	return int(info.Sys().(*syscall.Stat_t).Uid)
}
