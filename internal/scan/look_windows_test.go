package scan

import (
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/windows"
)

// TestOnlyLinksAreLinks goes through reparse tags: those of links and junctions make a
// file stand for another one, those of files that are kept elsewhere do not.
func TestOnlyLinksAreLinks(t *testing.T) {
	for tag, is := range map[uint32]bool{
		windows.IO_REPARSE_TAG_SYMLINK: true, windows.IO_REPARSE_TAG_MOUNT_POINT: true,
		0x9000001A: false, // cloud files
		0x9000401A: false, // cloud files of another provider
		0x80000013: false, // deduplicated
		0x80000017: false, // compressed by the system
		0xFFFFFFFF: true,  // cannot be told
	} {
		require.Equal(t, is, surrogate(tag), "%x", tag)
	}
	all := fileAllInformation{Attributes: windows.FILE_ATTRIBUTE_RECALL_ON_DATA_ACCESS}
	require.NotZero(t, all.mode()&away)
	all.Attributes |= windows.FILE_ATTRIBUTE_DIRECTORY
	require.Zero(t, all.mode()&away, "a folder holds nothing that has to come")
}
