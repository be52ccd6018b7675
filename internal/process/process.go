// Package process finds running programs, and starts command lines.
package process

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"morvant/internal/problem"
)

// Running is a program that runs from inside a folder.
type Running struct {
	PID  int
	Path string // of the program's file
}

// In returns the programs that run from files below dir, as far as this user may
// see them. Where the system offers no way to ask, the list is empty.
func In(dir string) ([]Running, error) { return in(dir) }

// Open is a file that a program has open for writing.
type Open struct {
	File string
	By   Running
}

// Writing lists the files below dir that other programs have open for writing, as far as this
// user may see them. Where the system has no list of open files, only likely is asked about,
// full paths, and whoever has one open stays unnamed.
func Writing(dir string, likely []string) ([]Open, error) { return writing(dir, likely) }

// Named returns the programs that run from a file of one of these names, or full paths; letter
// case and the ending .exe do not count.
func Named(names []string) ([]Running, error) {
	if len(names) == 0 {
		return nil, nil
	}
	var found []Running
	err := others(func(r Running) {
		if slices.ContainsFunc(names, func(name string) bool { return means(name, r.Path) }) {
			found = append(found, r)
		}
	})
	return found, err
}

// ErrNotRunning is returned for a process that is none of this program, or is none any more.
var ErrNotRunning = problem.New("it is no Morvant", "Look again: it may have ended by now")

// EndOther ends another process of this program at once, as a power cut does.
func EndOther(pid int) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	list, err := Named([]string{filepath.Base(self)})
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(list, func(r Running) bool { return r.PID == pid }) {
		return fmt.Errorf("process %d: %w", pid, ErrNotRunning)
	}
	p, err := os.FindProcess(pid)
	if err != nil {
		return err
	}
	return p.Kill()
}

// means reports whether name stands for the program at path.
func means(name, path string) bool {
	plain := func(s string) string { return strings.TrimSuffix(strings.ToLower(filepath.ToSlash(s)), ".exe") }
	name, path = plain(name), plain(path)
	return name == path || !strings.Contains(name, "/") && name == path[strings.LastIndex(path, "/")+1:]
}

// Shell returns a command that runs a line in a folder, the way the player's system does. In a folder of a network
// share it is ErrShare on Windows.
func Shell(ctx context.Context, line, dir string) (*exec.Cmd, error) {
	if err := share(dir); err != nil {
		return nil, err
	}
	cmd := shellCommand(ctx, line)
	cmd.Dir = dir
	return cmd, nil
}

// Bundle returns the app of macOS that path is or lies in; empty if there is none, or on
// another system.
func Bundle(path string) string {
	if runtime.GOOS != "darwin" {
		return ""
	}
	return bundle(path)
}

func bundle(path string) string {
	for dir := path; filepath.Dir(dir) != dir; dir = filepath.Dir(dir) {
		if strings.EqualFold(filepath.Ext(dir), ".app") {
			return dir
		}
	}
	return ""
}

// ErrBatch is returned for what a batch file cannot be given, or where it cannot run.
var ErrBatch = problem.New("a batch file cannot be started like this", "Start the program that it starts, or write the arguments into the batch file")

// Batch returns ErrBatch where a program is a batch file of Windows and its arguments could be taken for commands, or
// its folder lies on a network share, in which cmd does not work: it would go on in the system's folder.
func Batch(name, dir string, args []string) error {
	if ext := strings.ToLower(path.Ext(strings.ReplaceAll(name, `\`, "/"))); ext != ".bat" && ext != ".cmd" {
		return nil
	}
	for _, arg := range args {
		// cmd reads a line before the batch file does: quotation marks, and what it takes for its own, also within them.
		if strings.ContainsAny(arg, "\"%&|<>^!()\r\n") {
			return fmt.Errorf("%s: %w: \"%s\" has characters that cmd would take for commands", name, ErrBatch, arg)
		}
	}
	return share(dir)
}

// ErrShare is returned for a command line that is to run in a folder of a network share, which cmd cannot.
var ErrShare = problem.New("a command line cannot run in a folder of a network share", "Give the share a drive letter (net use), and register the game by that")

// share returns ErrShare for a folder of a share as Windows names it.
func share(dir string) error {
	if strings.HasPrefix(dir, `\\`) && !strings.HasPrefix(dir, `\\?\`) && !strings.HasPrefix(dir, `\\.\`) || strings.HasPrefix(dir, `\\?\UNC\`) {
		return fmt.Errorf("%s: %w", dir, ErrShare)
	}
	return nil
}

// Program returns a command that starts a program, or on macOS what stands for one: an
// app, which is a folder.
func Program(name string, args ...string) *exec.Cmd {
	if Bundle(name) == name {
		return exec.Command("/usr/bin/open", append([]string{"-n", "-W", "-a", name, "--args"}, args...)...)
	}
	return exec.Command(name, args...)
}

// patience is how long an operation on a file that somebody holds open is tried again:
// a virus scanner lets go within that time, a game does not.
const patience = 2 * time.Second

// HeldError is returned for a file or folder that somebody holds open. If it is a matter
// of rights, which some systems do not tell apart, it wraps fs.ErrPermission.
type HeldError struct {
	Path    string
	Holders []Running // as far as the system tells
	Err     error
}

func (e *HeldError) Error() string {
	switch {
	case len(e.Holders) > 0:
		return fmt.Sprintf("%[2]s (process %[3]d) has %[1]s open", e.Path, e.Holders[0].Path, e.Holders[0].PID)
	case errors.Is(e.Err, fs.ErrPermission):
		return fmt.Sprintf("%s cannot be changed: a program has it open, or you have no right to", e.Path)
	}
	return fmt.Sprintf("%s is held open by another program", e.Path)
}

func (e *HeldError) Unwrap() error { return e.Err }

// Patiently does something to the file or folder at path. On systems where that fails
// while somebody holds it open it is tried for up to two seconds; then the error says
// who does. It takes no context: whoever asks is in the middle of something that must not
// be cut off, and two seconds can be borne.
func Patiently(path string, do func() error) error { return patiently(path, do, transient) }

// Reading is Patiently for what only reads: there a want of rights is no matter of
// patience.
func Reading(path string, do func() error) error {
	return patiently(path, do, func(err error) bool { return transient(err) && !errors.Is(err, fs.ErrPermission) })
}

func patiently(path string, do func() error, passes func(error) bool) error {
	err := do()
	for wait, until := 10*time.Millisecond, time.Now().Add(patience); err != nil && passes(err) && time.Now().Before(until); wait *= 2 {
		time.Sleep(min(wait, 200*time.Millisecond))
		err = do()
	}
	if err != nil && passes(err) {
		return &HeldError{path, holders(path), err}
	}
	return err
}

// Rename renames a file or folder, patiently.
func Rename(from, to string) error {
	return Patiently(from, func() error { return os.Rename(from, to) })
}
