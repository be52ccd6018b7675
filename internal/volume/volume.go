// Package volume has the calls to the file system that the standard library lacks:
// free space, writing everything to disk, whether names that differ only by letter
// case are the same file.
package volume

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	pathpkg "path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"morvant/internal/problem"
)

// Free returns the bytes that an ordinary user may still write to the file
// system that holds dir.
func Free(dir string) (int64, error) { return free(dir) }

// ErrSpace is wrapped by every SpaceError.
var ErrSpace = errors.New("not enough free space")

// SpaceError says how much space is missing.
type SpaceError struct {
	Dir        string
	Need, Free int64 // bytes
}

func (e *SpaceError) Error() string {
	return fmt.Sprintf("%s: %d bytes are needed and %d are free: %v", e.Dir, e.Need, e.Free, ErrSpace)
}

func (e *SpaceError) Unwrap() error { return ErrSpace }

// CheckFree returns a SpaceError if fewer than need bytes are free where dir is.
func CheckFree(dir string, need int64) error {
	free, err := Free(dir)
	if err != nil {
		return err
	}
	if free < need {
		return &SpaceError{Dir: dir, Need: need, Free: free}
	}
	return nil
}

// Sync brings everything written below dir to disk. It may bring other files of
// the same file system along. It reports false where the system has no such
// call and the caller must sync file by file.
func Sync(dir *os.File) (bool, error) {
	if err := faulty("sync all", dir.Name()); err != nil {
		return false, err
	}
	return syncAll(dir)
}

// StartSync asks the system to begin writing n bytes of a file from offset on to
// disk, so that a later sync has less to wait for. It promises nothing.
func StartSync(f *os.File, offset, n int64) { startSync(f, offset, n) }

// SyncDir brings the names in a folder to disk.
func SyncDir(dir *os.File) error { return syncDir(dir) }

// Full reports whether err says that a disk is full.
func Full(err error) bool { return isFull(err) }

// Absent reports whether err says that a file is not there. A path that leads through
// something that is no folder is not there either.
func Absent(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR)
}

// The first and the last time that Nanoseconds can tell.
var (
	Earliest = time.Unix(0, math.MinInt64+1) // in 1677
	Latest   = time.Unix(0, math.MaxInt64)   // in 2262
)

// Nanoseconds returns a time in nanoseconds since 1970; one before Earliest or after
// Latest as that.
func Nanoseconds(t time.Time) int64 {
	switch {
	case t.Before(Earliest):
		return math.MinInt64 + 1
	case t.After(Latest):
		return math.MaxInt64
	}
	return t.UnixNano()
}

// ReadOnly reports whether err says that a disk cannot be written to at all.
func ReadOnly(err error) bool { return isReadOnly(err) }

// IgnoresCase reports whether names in root that differ by letter case only are
// the same file. probe is the path of a file that is there, with lower-case
// letters in its last name; upper is the same with capitals.
func IgnoresCase(root *os.Root, probe, upper string) (bool, error) {
	a, err := root.Lstat(probe)
	if err != nil {
		return false, err
	}
	b, err := root.Lstat(upper)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if os.SameFile(a, b) {
		return true, nil
	}
	// Some file systems number a file anew for each name that it is asked by: what counts
	// is whether the folder lists the other one.
	dir, err := root.Open(pathpkg.Dir(upper))
	if err != nil {
		return false, err
	}
	defer dir.Close()
	names, err := dir.Readdirnames(-1)
	return !slices.Contains(names, pathpkg.Base(upper)), err
}

// Fold returns what all spellings of a name have in common in a folder that ignores
// letter case.
func Fold(name string) string { return strings.ToLower(composed(name)) }

// UsualFold is Fold on systems whose folders usually ignore letter case, and returns
// the name as it is on others.
func UsualFold(name string) string {
	if runtime.GOOS == "windows" || runtime.GOOS == "darwin" {
		return Fold(name)
	}
	return name
}

// CanHold reports whether this system's folders can hold a path of a manifest, which is
// checked for what no system should hold.
func CanHold(path string) bool {
	return runtime.GOOS != "windows" || !strings.ContainsAny(path, `<>"|?*`)
}

// ErrUnsupported is returned where the system offers no way.
var ErrUnsupported = errors.New("this system cannot do that")

// Exchange makes two names of one file system change places, at once: no program sees
// one of them missing. ErrUnsupported where the system cannot.
func Exchange(a, b string) error { return exchange(a, b) }

// SameDisk reports whether two files lie on one file system, so that one can be
// renamed to beside the other.
func SameDisk(a, b string) (bool, error) { return sameDisk(a, b) }

// Link makes name a link to the folder target, a full path: a symbolic link, or a
// junction on Windows, which takes no rights.
func Link(target, name string) error {
	if strings.HasPrefix(target, `\\`) {
		return &os.LinkError{Op: "link", Old: target, New: name, Err: errors.New("a junction cannot lead to a network share")}
	}
	return link(target, name)
}

// IsLink reports whether name itself is a link.
func IsLink(name string) bool {
	info, err := os.Lstat(name)
	return err == nil && isLink(info)
}

// Chmod sets the permissions of a file below root that is no link.
func Chmod(root *os.Root, path string, mode fs.FileMode) error {
	if err := faulty("chmod", path); err != nil {
		return err
	}
	return chmod(root, path, mode)
}

// Chtimes sets the time of the last change of a file below root that is no link.
func Chtimes(root *os.Root, path string, when time.Time) error {
	if err := faulty("chtimes", path); err != nil {
		return err
	}
	return chtimes(root, path, when)
}

// Names counts the names that a file below root has, of which others may lie anywhere on its
// disk: what is done to its mode or time is done to all of them.
func Names(root *os.Root, path string) (int, error) {
	info, err := root.Lstat(path)
	if err != nil || !info.Mode().IsRegular() {
		return 1, err
	}
	return names(root, path, info)
}

// KeepFlags gives a file the attributes hidden and system that another one has, on
// systems that know them.
func KeepFlags(from, to string) error { return keepFlags(from, to) }

// Writable reports whether this user may add, rename and remove files in a folder.
func Writable(dir string) bool { return writable(dir) }

// Owned reports whether a folder is this user's, who may therefore set its mode, on systems where modes keep
// files from coming and going.
func Owned(dir string) bool { return owned(dir) }

// LinkTarget returns the full path of the folder that the link name leads to.
func LinkTarget(name string) (string, error) {
	target, err := os.Readlink(name)
	if err != nil {
		return "", err
	}
	if !filepath.IsAbs(target) {
		target = filepath.Join(filepath.Dir(name), target)
	}
	return filepath.Clean(target), nil
}

// maxHops is how many links a path may lead through.
const maxHops = 64

// Real returns where a full path leads: every link and junction on the way is followed.
// What is not there yet has no links.
func Real(path string) (string, error) {
	hops := 0
	var real func(path string) (string, error)
	real = func(path string) (string, error) {
		above := filepath.Dir(path)
		if above == path {
			return path, nil
		}
		above, err := real(above)
		if err != nil {
			return "", err
		}
		path = filepath.Join(above, filepath.Base(path))
		if !IsLink(path) {
			return path, nil
		}
		if hops++; hops > maxHops {
			return "", &fs.PathError{Op: "follow", Path: path, Err: errors.New("too many links")}
		}
		to, err := LinkTarget(path)
		if errors.Is(err, errors.ErrUnsupported) || errors.Is(err, fs.ErrInvalid) {
			return path, nil
		}
		if err != nil {
			return "", err
		}
		return real(to)
	}
	return real(filepath.Clean(path))
}

// Immutable reports whether a file below root can be neither changed nor moved, whoever
// owns it. Where the system has no such attribute, or does not tell, it reports false.
func Immutable(root *os.Root, path string) bool { return immutable(root, path) }

// Trusted reports whether a folder is one that this user, the owner of the folder like, or
// the administrator has made: what lies in it is then not a stranger's. Where the system
// tells no owners it reports true.
func Trusted(dir, like string) bool { return trusted(dir, like) }

// Mine reports whether a folder is this user's own; for the administrator also one of who
// has become administrator (sudo). Where the system tells no owners it reports true.
func Mine(dir string) bool { return mine(dir) }

// MaySet reports whether this user may set the times and the mode of a file below root.
func MaySet(root *os.Root, path string) bool { return maySet(root, path) }

// ErrNoLinks is returned where no folder can be linked to.
var ErrNoLinks = problem.New("this disk cannot hold a link to a folder", "Nothing was changed; choose a folder on another disk, or keep a copy in each lane")

// CanLink tries whether a link in the folder dir leads to the folder target.
func CanLink(dir, target string) error {
	probe := filepath.Join(dir, ".morvant-probe-"+rand.Text()[:8])
	if err := Link(target, probe); err != nil {
		return fmt.Errorf("%s: %w (%v)", dir, ErrNoLinks, err)
	}
	there, err := os.Stat(probe)
	if err == nil {
		var want fs.FileInfo
		if want, err = os.Stat(target); err == nil && !os.SameFile(there, want) {
			err = errors.New("the link leads elsewhere")
		}
	}
	if removeErr := os.Remove(probe); err == nil {
		err = removeErr
	}
	if err != nil {
		return fmt.Errorf("%s: %w (%v)", dir, ErrNoLinks, err)
	}
	return nil
}

// ID tells one file system from another: equal for all folders of one, and, as far as
// the system knows, the same the next time that its disk is there. Empty: not known.
func ID(dir string) string { return id(dir) }
