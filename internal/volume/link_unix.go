//go:build !windows

package volume

import (
	"io/fs"
	"os"
)

func link(target, name string) error { return os.Symlink(target, name) }

func isLink(info fs.FileInfo) bool { return info.Mode().Type() == fs.ModeSymlink }

func renameOver(from, to string) error { return os.Rename(from, to) }

func keepFlags(string, string) error { return nil }
