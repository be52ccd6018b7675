package volume

import (
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Traits are what a disk can hold. The zero value is a disk that is not known to lack
// anything.
type Traits struct {
	NoLinks     bool          // symbolic links cannot be made
	NoModes     bool          // the modes of files are made up, and do not stay as they are set
	IgnoresCase bool          // names that differ by letter case only are one
	MaxFile     int64         // bytes; 0: no limit that counts
	Clock       time.Duration // how exactly it keeps times; 0: to the nanosecond
}

// TraitsOf tries what the disk can do that holds dir, with a file that is there for a
// moment.
func TraitsOf(dir string) (Traits, error) {
	t := Traits{MaxFile: maxFile(dir)}
	probe := filepath.Join(dir, ".morvant-probe-"+strings.ToLower(rand.Text()[:8]))
	if err := os.WriteFile(probe, nil, 0o640); err != nil {
		return t, err
	}
	defer os.Remove(probe)
	root, err := os.OpenRoot(dir)
	if err != nil {
		return t, err
	}
	defer root.Close()
	if t.IgnoresCase, err = IgnoresCase(root, filepath.Base(probe), strings.ToUpper(filepath.Base(probe))); err != nil {
		return t, err
	}
	link := probe + "-link"
	if os.Symlink("nothing", link) != nil {
		t.NoLinks = true
	} else {
		// Where links are made up, one may be said to be made and not be there.
		to, err := os.Readlink(link)
		t.NoLinks = err != nil || to != "nothing"
		if err := os.Remove(link); err != nil && !Absent(err) {
			return t, err
		}
	}
	for _, mode := range []os.FileMode{0o600, 0o700} {
		if os.Chmod(probe, mode) != nil {
			t.NoModes = true
		} else if info, err := os.Stat(probe); err == nil && info.Mode().Perm() != mode {
			t.NoModes = modesAreKept
		}
	}
	// A time that every clock in use cuts otherwise.
	want := time.Date(2031, 8, 5, 9, 0, 1, 123_456_789, time.UTC)
	if err := os.Chtimes(probe, want, want); err != nil {
		return t, err
	}
	info, err := os.Stat(probe)
	if err != nil {
		return t, err
	}
	switch off := want.Sub(info.ModTime()).Abs(); {
	case off >= time.Second:
		t.Clock = 2 * time.Second
	case off >= time.Millisecond:
		t.Clock = time.Second
	case off > time.Microsecond:
		t.Clock = time.Millisecond
	}
	return t, nil
}

// Lacks says in sentences what the disk cannot hold.
func (t Traits) Lacks() []string {
	var list []string
	if t.NoLinks {
		list = append(list, "it cannot hold links")
	}
	if t.IgnoresCase && UsualFold("A") == "A" {
		list = append(list, "upper and lower case are the same there")
	}
	if t.MaxFile > 0 {
		list = append(list, fmt.Sprintf("a file cannot be larger than %d GB", (t.MaxFile+1)>>30))
	}
	if t.NoModes {
		list = append(list, "it does not remember which files are programs")
	}
	if t.Clock >= time.Second {
		list = append(list, fmt.Sprintf("it keeps times to %d s only", t.Clock/time.Second))
	}
	return list
}

// fatMax is the largest file on FAT: its sizes have 32 bits.
const fatMax = 1<<32 - 1
