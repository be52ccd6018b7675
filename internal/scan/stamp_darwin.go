package scan

import (
	"io/fs"
	"syscall"

	"morvant/internal/volume"
)

func stampOf(info fs.FileInfo) Stamp {
	s := Stamp{Size: info.Size(), MTime: volume.Nanoseconds(info.ModTime())}
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		s.CTime, s.Dev, s.Ino = st.Ctimespec.Nano(), uint64(st.Dev), st.Ino
	}
	return s
}
