package scan

import "io/fs"

const openFlags = 0

// stampOf has no file id here: a listing does not carry one, and opening every
// file to ask would cost more than it tells.
func stampOf(info fs.FileInfo) Stamp {
	return Stamp{Size: info.Size(), MTime: info.ModTime().UnixNano()}
}
