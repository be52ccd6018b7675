package volume

import (
	"crypto/rand"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"morvant/internal/process"
)

// Replace writes a file as a whole and puts it in place of the one that may be there:
// readers see the old or the new content, never a part. When it returns, content and
// name are on disk. Run by an administrator it keeps the owner of the file that it
// replaces, or of the folder.
func Replace(name string, content []byte, mode fs.FileMode) error {
	Sweep(name)
	part := filepath.Join(filepath.Dir(name), partOf(filepath.Base(name))+rand.Text()[:8])
	f, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if err := fill(f, content, mode); err != nil {
		os.Remove(part)
		return err
	}
	err = Own(part, likeOf(name))
	if err == nil {
		err = process.Patiently(name, func() error { return renameOver(part, name) })
	}
	if err != nil {
		os.Remove(part)
		return err
	}
	return SyncFolder(filepath.Dir(name))
}

// ReplaceIn is Replace for a file below root.
func ReplaceIn(root *os.Root, name string, content []byte, mode fs.FileMode) error {
	dir := path.Dir(name)
	part := path.Join(dir, partOf(path.Base(name))+rand.Text()[:8])
	if err := faulty("replace", name); err != nil {
		return err
	}
	f, err := root.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	err = fill(f, content, mode)
	if err == nil {
		err = OwnIn(root, part, dir)
	}
	if err == nil {
		err = RenameIn(root, part, name)
	}
	if err != nil {
		return errors.Join(err, root.Remove(part))
	}
	return SyncIn(root, dir)
}

// fill writes a new file, brings it to disk and closes it. The mode comes last: what is
// read-only can be synced on no system that goes by the right to write.
func fill(f *os.File, content []byte, mode fs.FileMode) error {
	_, err := f.Write(content)
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Chmod(mode), f.Close())
}

// PartPrefix begins the names of files that are about to take another's place. What a
// killed run has left under such a name belongs to nobody.
const PartPrefix = ".part-"

// partOf begins the names of the files that are about to take the place of one.
func partOf(base string) string {
	h := fnv.New32a()
	h.Write([]byte(base))
	return fmt.Sprintf("%s%08x-", PartPrefix, h.Sum32())
}

// Sweep removes what killed runs of Replace have left beside a file.
func Sweep(name string) {
	dir, err := os.Open(filepath.Dir(name))
	if err != nil {
		return
	}
	defer dir.Close()
	names, _ := dir.Readdirnames(-1)
	for _, n := range names {
		if strings.HasPrefix(n, partOf(filepath.Base(name))) {
			_ = os.Remove(filepath.Join(filepath.Dir(name), n)) // the next run tries again
		}
	}
}

// likeOf returns whose owner a file that takes this name should have.
func likeOf(name string) string {
	if _, err := os.Lstat(name); err == nil {
		return name
	}
	return filepath.Dir(name)
}

// RenameIn renames below root; a file that a program holds open for a moment is waited
// for.
func RenameIn(root *os.Root, from, to string) error {
	if err := faulty("rename", from); err != nil {
		return err
	}
	return process.Patiently(filepath.Join(root.Name(), filepath.FromSlash(from)), func() error { return root.Rename(from, to) })
}

// RemoveFile deletes a file; none is there afterwards.
func RemoveFile(name string) error {
	if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// RemoveIn removes a file or an empty folder below root, patiently as RenameIn.
func RemoveIn(root *os.Root, name string) error {
	if err := faulty("remove", name); err != nil {
		return err
	}
	return process.Patiently(filepath.Join(root.Name(), filepath.FromSlash(name)), func() error { return root.Remove(name) })
}

// SyncFolder brings the names in a folder to disk.
func SyncFolder(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(SyncDir(f), f.Close())
}

// SyncIn is SyncFolder for a folder below root.
func SyncIn(root *os.Root, dir string) error {
	if err := faulty("sync", dir); err != nil {
		return err
	}
	f, err := root.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(SyncDir(f), f.Close())
}

// Own gives a file that an administrator has made the owner of another one. Run by
// anybody else it does nothing.
func Own(name, like string) error { return own(name, like) }

// OwnIn is Own for files below root.
func OwnIn(root *os.Root, name, like string) error {
	if err := faulty("own", name); err != nil {
		return err
	}
	return ownIn(root, name, like)
}

// OwnAll is Own for everything below dir that belongs to the administrator, with dir
// itself as the one to be like. What cannot be looked at stays as it is.
func OwnAll(dir string) error { return ownAll(dir) }

// MkdirAll is os.MkdirAll; folders that an administrator makes belong to whom the folder
// around them does.
func MkdirAll(dir string, mode fs.FileMode) error {
	if info, err := os.Stat(dir); err == nil && info.IsDir() {
		return nil
	}
	around := filepath.Dir(dir)
	if around != dir {
		if err := MkdirAll(around, mode); err != nil {
			return err
		}
	}
	if err := os.Mkdir(dir, mode); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return Own(dir, around)
}

// Overwrite writes content over a file where it is, for one that must stay the same file: it has
// other names. Cut off in between it has a part of each.
func Overwrite(name string, content []byte) error {
	f, err := os.OpenFile(name, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err == nil {
		err = f.Truncate(int64(len(content)))
	}
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}
