package standin

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Launcher is a made-up launcher of Cinder Quay. It knows one folder by its path,
// keeps its state in a text file of its own, and updates the folder in place, file
// by file, as real ones do. What defeats it would defeat a real one: its own
// setting, a file it may not write, a staging folder it cannot make, a wrong path.
type Launcher struct {
	Quay
	State     string // the file
	StopAfter int    // files after which an update breaks off; 0: never
}

// When a launcher updates the game.
const (
	AtOnce      = "at-once"
	BeforeStart = "before-start"
	ByHand      = "by-hand"
)

// ErrStopped is returned for an update that broke off.
var ErrStopped = errors.New("the update broke off half-way")

// state is the launcher's state file: lines of key and value, with comments.
type state struct {
	lines []string
}

func (s *state) get(key string) string {
	for _, line := range s.lines {
		if k, v, ok := strings.Cut(line, "="); ok && strings.TrimSpace(k) == key {
			return strings.TrimSpace(v)
		}
	}
	return ""
}

func (s *state) set(key, value string) {
	for i, line := range s.lines {
		if k, _, ok := strings.Cut(line, "="); ok && strings.TrimSpace(k) == key {
			s.lines[i] = key + " = " + value
			return
		}
	}
	s.lines = append(s.lines, key+" = "+value)
}

func (l *Launcher) load() (*state, error) {
	b, err := os.ReadFile(l.State)
	if err != nil {
		return nil, err
	}
	return &state{strings.Split(strings.TrimSuffix(string(b), "\n"), "\n")}, nil
}

func (l *Launcher) save(s *state) error {
	return os.WriteFile(l.State, []byte(strings.Join(s.lines, "\n")+"\n"), 0o644)
}

// Install installs a build in dir and writes the state file.
func (l *Launcher) Install(dir, label string) error {
	if err := l.Write(dir, label); err != nil {
		return err
	}
	s := &state{lines: []string{"# state of the Cinder Quay launcher"}}
	for _, pair := range [][2]string{
		{"folder", dir}, {"updates", AtOnce}, {"installed", label}, {"pending", ""}, {"half-done", "no"}, {"staging", l.State + ".staging"},
	} {
		s.set(pair[0], pair[1])
	}
	return l.save(s)
}

// Offer tells the launcher that there is a newer build.
func (l *Launcher) Offer(label string) error {
	s, err := l.load()
	if err != nil {
		return err
	}
	s.set("pending", label)
	return l.save(s)
}

// Idle is what the launcher does by itself: it updates if it may at once.
func (l *Launcher) Idle() error {
	s, err := l.load()
	if err != nil || s.get("updates") != AtOnce {
		return err
	}
	return l.Update()
}

// Start updates the game unless that is left to the player, and starts it.
func (l *Launcher) Start() (string, error) {
	s, err := l.load()
	if err != nil {
		return "", err
	}
	if s.get("updates") != ByHand {
		if err := l.Update(); err != nil {
			return "", err
		}
	}
	return Play(l.Quay, s.get("folder"), true)
}

// Update brings the folder to the build that is pending, in place. An update that
// broke off goes on.
func (l *Launcher) Update() error {
	s, err := l.load()
	if err != nil {
		return err
	}
	label := s.get("pending")
	if label == "" {
		return nil
	}
	i := slices.IndexFunc(Releases(), func(r Release) bool { return r.Label == label })
	if i < 0 {
		return fmt.Errorf("%s: %w", label, ErrRelease)
	}
	folder, staging := s.get("folder"), s.get("staging")
	if _, err := os.Stat(folder); err != nil {
		return err
	}
	if err := os.MkdirAll(staging, 0o755); err != nil {
		return fmt.Errorf("the launcher cannot make its staging folder: %w", err)
	}
	s.set("half-done", "yes")
	if err := l.save(s); err != nil {
		return err
	}
	done := 0
	for _, f := range l.files(i) {
		changed, err := l.inPlace(f, folder, staging, Releases()[i])
		if err != nil {
			return err
		}
		if changed {
			done++
		}
		if l.StopAfter > 0 && done >= l.StopAfter {
			return ErrStopped
		}
	}
	if err := l.Write(folder, label); err != nil { // what the build does not have any more goes
		return err
	}
	s.set("half-done", "no")
	s.set("installed", label)
	s.set("pending", "")
	return errors.Join(l.save(s), os.RemoveAll(staging))
}

// inPlace writes a file over the one that is there, by way of the staging folder.
func (l *Launcher) inPlace(f file, folder, staging string, r Release) (bool, error) {
	name := filepath.Join(folder, filepath.FromSlash(f.path))
	if same, err := f.sameAs(name); same || err != nil {
		return false, err
	}
	staged := filepath.Join(staging, "file")
	out, err := os.Create(staged)
	if err != nil {
		return false, err
	}
	if err := errors.Join(f.write(out), out.Close()); err != nil {
		return false, err
	}
	// An administrator may write what he may not; this launcher is none.
	if info, err := os.Stat(name); err == nil && info.Mode().Perm()&0o222 == 0 {
		return false, &fs.PathError{Op: "write", Path: name, Err: fs.ErrPermission}
	}
	return true, f.put(folder, r.Date)
}

// ErrMixed is returned by a game whose files are of several builds.
var ErrMixed = errors.New("the harbour game does not start: its files are of different builds")

// ErrCompanion is returned by a game that was started without its launcher and does
// not find the file that allows it.
var ErrCompanion = errors.New("the harbour game does not start: it was not started by its launcher, and bin/standalone.txt is missing")

// Play is the made-up game: it reads its data files, refuses to start on a mixed
// build, and writes a log. It returns the build that it reports.
func Play(q Quay, dir string, fromLauncher bool) (string, error) {
	text, err := os.ReadFile(filepath.Join(dir, "version.txt"))
	if err != nil {
		return "", fmt.Errorf("%w: %v", ErrMixed, err)
	}
	label := strings.TrimSpace(strings.TrimPrefix(string(text), "Cinder Quay "))
	i := slices.IndexFunc(Releases(), func(r Release) bool { return r.Label == label })
	if i < 0 {
		return "", fmt.Errorf("%w: version.txt says %q", ErrMixed, label)
	}
	for _, f := range q.files(i) {
		if c := Component(f.path); c != "base" {
			continue // languages and expansions may be missing
		}
		same, err := f.sameAs(filepath.Join(dir, filepath.FromSlash(f.path)))
		if err != nil {
			return "", err
		}
		if !same {
			return "", fmt.Errorf("%w: %s is not of %s", ErrMixed, f.path, label)
		}
	}
	if !fromLauncher {
		if _, err := os.Stat(filepath.Join(dir, "bin", "standalone.txt")); err != nil {
			return "", ErrCompanion
		}
	}
	if err := os.MkdirAll(filepath.Join(dir, "logs"), 0o755); err != nil {
		return "", err
	}
	return label, os.WriteFile(filepath.Join(dir, "logs", "last.txt"), []byte("Cinder Quay "+label+" started\n"), 0o644)
}
