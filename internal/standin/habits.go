package standin

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Habit is a way in which a launcher may behave that makes life hard for what watches it.
type Habit string

// The habits. Patching files in place and giving them the time of their release is no habit:
// this launcher always does.
const (
	ZeroFill  Habit = "zero-fill"  // makes every file at its full size first, and fills them one by one
	KeepOpen  Habit = "keep-open"  // keeps the file that it writes open for the pause, unfinished
	Swap      Habit = "swap"       // builds a new folder beside and puts it in the place of the old one
	Wipe      Habit = "wipe"       // removes everything in the folder first
	Rename    Habit = "rename"     // gives the folder another name after the update
	Verify    Habit = "verify"     // removes afterwards what it does not know
	Hotfix    Habit = "hotfix"     // lays a small change over the build that nobody has published
	Reorder   Habit = "reorder"    // writes its state file in another order
	OtherCase Habit = "other-case" // writes the keys of its state file in another letter case
	Resident  Habit = "resident"   // writes its own copy of its state over the file when it ends
	Elsewhere Habit = "elsewhere"  // makes a staging folder of another name where its own is held
	AtExit    Habit = "at-exit"    // updates when the game ends, not before it starts
	Restless  Habit = "restless"   // writes its state file again and again, with the time in it
)

// Habits lists them.
func Habits() []Habit {
	return []Habit{ZeroFill, KeepOpen, Swap, Wipe, Rename, Verify, Hotfix, Reorder, OtherCase, Resident, Elsewhere, AtExit, Restless}
}

func (l *Launcher) has(h Habit) bool { return slices.Contains(l.Habits, h) }

// writing is the state as this launcher writes it.
func (l *Launcher) writing(lines []string) []string {
	lines = slices.Clone(lines)
	if l.has(Reorder) {
		rand.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
	}
	if l.has(OtherCase) {
		for i, line := range lines {
			if k, v, ok := strings.Cut(line, "="); ok && !strings.HasPrefix(line, "#") {
				lines[i] = strings.ToUpper(k) + "=" + v
			}
		}
	}
	return lines
}

// hotfix is the file that a hotfix changes.
const hotfix = "data/cargo/carg-0003.txt"

// withHotfix lays the hotfix over an update.
func (l *Launcher) withHotfix(u *update) {
	if !l.has(Hotfix) {
		return
	}
	for i := range u.files {
		if u.files[i].path == hotfix {
			published := u.files[i].write
			u.files[i].write = func(w io.Writer) error {
				return errors.Join(published(w), text("# hotfix: cargo no longer floats\n")(w))
			}
		}
	}
}

// zeros makes every file that will change at its full size, with nothing in it.
func (l *Launcher) zeros(u *update, folder string) error {
	for _, f := range u.files {
		name := filepath.Join(folder, filepath.FromSlash(f.path))
		same, err := f.sameAs(name)
		if err != nil {
			return err
		}
		if same {
			continue
		}
		var size counter
		if err := f.write(&size); err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		out, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
		if err != nil {
			return err
		}
		if err := errors.Join(out.Truncate(int64(size)), out.Close()); err != nil {
			return err
		}
	}
	return nil
}

type counter int64

func (c *counter) Write(p []byte) (int, error) {
	*c += counter(len(p))
	return len(p), nil
}

// hold keeps a file open for writing, with half of its content, for the pause.
func (l *Launcher) hold(f file, folder string) error {
	out, err := os.OpenFile(filepath.Join(folder, filepath.FromSlash(f.path)), os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	var size counter
	if err := f.write(&size); err != nil {
		return errors.Join(err, out.Close())
	}
	cut := &cutter{to: out, left: int64(size) / 2}
	if err := f.write(cut); err != nil && !errors.Is(err, io.ErrShortWrite) {
		return errors.Join(err, out.Close())
	}
	time.Sleep(l.Pause)
	return out.Close()
}

// cutter writes the first bytes, and drops the rest.
type cutter struct {
	to   io.Writer
	left int64
}

func (c *cutter) Write(p []byte) (int, error) {
	n := min(int64(len(p)), c.left)
	c.left -= n
	if _, err := c.to.Write(p[:n]); err != nil {
		return 0, err
	}
	return len(p), nil
}

// place is the folder in which an update is built: the game's own, or one beside it.
func (l *Launcher) place(u *update, folder string) (string, error) {
	switch {
	case l.has(Swap):
		return folder + ".new", os.MkdirAll(folder+".new", 0o755)
	case l.has(Wipe):
		list, err := os.ReadDir(folder)
		for _, e := range list {
			err = errors.Join(err, os.RemoveAll(filepath.Join(folder, e.Name())))
		}
		return folder, err
	case l.has(ZeroFill):
		return folder, l.zeros(u, folder)
	}
	return folder, nil
}

// settle is what follows an update, and returns where the game is then.
func (l *Launcher) settle(u *update, folder string) (string, error) {
	if l.has(Swap) {
		if err := errors.Join(os.RemoveAll(folder+".old"), os.Rename(folder, folder+".old"), os.Rename(folder+".new", folder), os.RemoveAll(folder+".old")); err != nil {
			return folder, err
		}
	}
	if l.has(Verify) {
		if err := l.removeUnknown(u, folder); err != nil {
			return folder, err
		}
	}
	if l.has(Rename) {
		return folder + " (updated)", os.Rename(folder, folder+" (updated)")
	}
	return folder, nil
}

// removeUnknown removes the files that are not of the build.
func (l *Launcher) removeUnknown(u *update, folder string) error {
	known := make(map[string]bool)
	for _, f := range u.files {
		known[f.path] = true
	}
	return filepath.WalkDir(folder, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, err := filepath.Rel(folder, p)
		if err != nil || known[filepath.ToSlash(rel)] {
			return err
		}
		return os.Remove(p)
	})
}

// staging makes the launcher's staging folder, or another one where that is held.
func (l *Launcher) staging(name string) (string, error) {
	err := os.MkdirAll(name, 0o755)
	if err != nil && l.has(Elsewhere) {
		name += "-2"
		err = os.MkdirAll(name, 0o755)
	}
	if err != nil {
		return "", fmt.Errorf("the launcher cannot make its staging folder: %w", err)
	}
	return name, nil
}

// Run is a launcher that stays: it does what it does by itself, waits for the pause, and ends.
func (l *Launcher) Run(idle func() error) error {
	at, err := l.load()
	if err != nil {
		return err
	}
	own := slices.Clone(at.lines)
	if l.has(Resident) { // it has read its state, and says so
		sign := l.State + ".running"
		if err := os.WriteFile(sign, nil, 0o644); err != nil {
			return err
		}
		defer os.Remove(sign)
	}
	if err := idle(); err != nil {
		return err
	}
	for until := time.Now().Add(l.Pause); time.Now().Before(until); {
		if l.has(Restless) {
			if at, err = l.load(); err != nil {
				return err
			}
			at.set("seen", time.Now().UTC().Format(time.RFC3339Nano))
			if err := l.save(at); err != nil {
				return err
			}
		}
		time.Sleep(min(l.Pause/8+time.Millisecond, time.Second))
	}
	if l.has(Resident) {
		if at, err = l.load(); err != nil {
			return err
		}
		// What it has done itself it knows; what others have set meanwhile it does not.
		was := &state{own}
		at.set("updates", was.get("updates"))
		return l.save(at)
	}
	return nil
}
