//go:build !linux

package block

import "os"

// setImmutable does nothing where there is no such attribute for ordinary use; the
// permission bits have to do.
func setImmutable(*os.Root, string, bool) error { return nil }
