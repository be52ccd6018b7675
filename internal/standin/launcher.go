package standin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"morvant/internal/catalogue"
	"morvant/internal/feed"
	"morvant/internal/feed/fetch"
	"morvant/internal/progress"
	"morvant/internal/store"
)

// Launcher is a made-up launcher of Cinder Quay. It knows one folder by its path,
// keeps its state in a text file of its own, and updates the folder in place, file
// by file, as real ones do. What defeats it would defeat a real one: its own
// setting, a file it may not write, a staging folder it cannot make, a wrong path.
type Launcher struct {
	Quay
	State     string // the file
	StopAfter int    // files after which an update breaks off; 0: never
	Habits    []Habit
	Pause     time.Duration // how long it takes its time, where a habit says so
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
		if k, v, ok := strings.Cut(line, "="); ok && strings.EqualFold(strings.TrimSpace(k), key) {
			return strings.TrimSpace(v)
		}
	}
	return ""
}

func (s *state) set(key, value string) {
	for i, line := range s.lines {
		if k, _, ok := strings.Cut(line, "="); ok && strings.EqualFold(strings.TrimSpace(k), key) {
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
	return os.WriteFile(l.State, []byte(strings.Join(l.writing(s.lines), "\n")+"\n"), 0o644)
}

// Install installs a build in dir and writes the state file. source is the feed that
// updates come from; without one the launcher has every build with itself.
func (l *Launcher) Install(dir, label, source string) error {
	if err := l.Write(dir, label); err != nil {
		return err
	}
	return l.Adopt(dir, label, source)
}

// Adopt writes the state file for a game that is installed already.
func (l *Launcher) Adopt(dir, label, source string) error {
	s := &state{lines: []string{"# state of the Cinder Quay launcher"}}
	for _, pair := range [][2]string{
		{"folder", dir}, {"updates", AtOnce}, {"installed", label}, {"pending", ""}, {"half-done", "no"}, {"staging", l.State + ".staging"}, {"source", source},
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
func (l *Launcher) Idle(ctx context.Context) error {
	s, err := l.load()
	if err != nil {
		return err
	}
	return l.Run(func() error {
		if s.get("updates") != AtOnce {
			return nil
		}
		return l.Update(ctx)
	})
}

// Start updates the game unless that is left to the player, and starts it.
func (l *Launcher) Start(ctx context.Context) (string, error) {
	s, err := l.load()
	if err != nil {
		return "", err
	}
	updates := s.get("updates") != ByHand
	if updates && !l.has(AtExit) {
		if err := l.Update(ctx); err != nil {
			return "", err
		}
	}
	if s, err = l.load(); err != nil {
		return "", err
	}
	build, err := Play(l.Quay, s.get("folder"), true)
	if err == nil && updates && l.has(AtExit) {
		err = l.Update(ctx)
	}
	return build, err
}

// Update brings the folder to the build that is pending, in place. An update that
// broke off goes on.
func (l *Launcher) Update(ctx context.Context) error {
	s, err := l.load()
	if err != nil {
		return err
	}
	label := s.get("pending")
	if label == "" {
		return nil
	}
	folder := s.get("folder")
	if _, err := os.Stat(folder); err != nil {
		return err
	}
	staging, err := l.staging(s.get("staging"))
	if err != nil {
		return err
	}
	u, err := l.download(ctx, s, label, staging)
	if err != nil {
		return err
	}
	l.withHotfix(u)
	s.set("half-done", "yes")
	err = l.save(s)
	if err == nil {
		folder, err = l.carry(u, folder, staging)
	}
	if err := errors.Join(err, u.close()); err != nil {
		return err
	}
	s.set("folder", folder)
	s.set("half-done", "no")
	s.set("installed", label)
	s.set("pending", "")
	return errors.Join(l.save(s), os.RemoveAll(staging))
}

// update is a build that has been downloaded.
type update struct {
	files []file
	gone  []string // files of other builds that it does not have
	date  time.Time
	close func() error
}

// download gets what the pending build consists of: out of the launcher's feed, into
// its staging folder.
func (l *Launcher) download(ctx context.Context, s *state, label, staging string) (*update, error) {
	if source := s.get("source"); source != "" {
		return fetchUpdate(ctx, source, label, staging)
	}
	i := slices.IndexFunc(Releases(), func(r Release) bool { return r.Label == label })
	if i < 0 {
		return nil, fmt.Errorf("%s: %w", label, ErrRelease)
	}
	u := &update{files: l.files(i), date: Releases()[i].Date, close: func() error { return nil }}
	has := make(map[string]bool)
	for _, f := range u.files {
		has[f.path] = true
	}
	for before := range i {
		for _, f := range l.files(before) {
			if !has[f.path] {
				u.gone = append(u.gone, f.path)
			}
		}
	}
	return u, nil
}

func fetchUpdate(ctx context.Context, source, label, staging string) (*update, error) {
	o := feed.Options{Meter: progress.None{}, Now: time.Now}
	subscription := filepath.Join(staging, "feed")
	if err := os.RemoveAll(subscription); err != nil {
		return nil, err
	}
	f, err := feed.Add(ctx, feed.Adding{Base: subscription, Addresses: []string{source}}, o)
	if err != nil {
		return nil, err
	}
	contents, err := store.Open(ctx, filepath.Join(staging, "content"))
	if err != nil {
		return nil, err
	}
	u := &update{close: contents.Close}
	if err := u.fetch(ctx, f, contents, label); err != nil {
		return nil, errors.Join(err, u.close())
	}
	return u, nil
}

// fetch brings every component of a build.
func (u *update) fetch(ctx context.Context, f *feed.Feed, contents *store.Store, label string) error {
	o := feed.Options{Meter: progress.None{}, Now: time.Now}
	channels, err := f.Channels()
	if err != nil {
		return err
	}
	var b *catalogue.Build
	var all []catalogue.Part // of every build
	for _, c := range channels {
		for i := range c.Builds {
			all = append(all, c.Builds[i].Components...)
			if c.Builds[i].Label == label {
				b = &c.Builds[i]
			}
		}
	}
	if b == nil {
		return fmt.Errorf("%s: %w", label, ErrRelease)
	}
	u.date = b.Date
	var parts []fetch.Part
	has := make(map[string]bool)
	for _, p := range b.Components {
		m, err := f.Manifest(p.Manifest)
		if err != nil {
			return err
		}
		parts = append(parts, fetch.Part{Part: p, Manifest: m})
		for _, k := range m.Files {
			has[k.Path] = true
			u.files = append(u.files, file{path: k.Path, write: func(w io.Writer) error { return contents.WriteTo(ctx, w, k.Digest) }})
		}
	}
	for _, p := range all {
		m, err := f.Manifest(p.Manifest)
		if err != nil {
			return err
		}
		for _, k := range m.Files {
			if !has[k.Path] {
				u.gone = append(u.gone, k.Path)
			}
		}
	}
	plan, err := fetch.Make(ctx, f, fetch.Request{Store: contents, Parts: parts, Owner: "launcher"}, o)
	if err != nil {
		return err
	}
	for i := range u.files {
		u.files[i].program = plan.Attributes()[u.files[i].path].Mode != 0
	}
	if !plan.Empty() {
		_, err = plan.Run(ctx, o)
	}
	return err
}

// carry writes an update over the game, file by file, and returns where the game is then.
func (l *Launcher) carry(u *update, folder, staging string) (string, error) {
	place, err := l.place(u, folder)
	if err != nil {
		return folder, err
	}
	done := 0
	for _, f := range u.files {
		if l.has(KeepOpen) && f.path == "data/harbour.pak" {
			if err := l.hold(f, place); err != nil {
				return folder, err
			}
		}
		changed, err := inPlace(f, place, staging, u.date)
		if err != nil {
			return folder, err
		}
		if changed {
			done++
		}
		if l.StopAfter > 0 && done >= l.StopAfter {
			return folder, ErrStopped
		}
	}
	for _, p := range u.gone {
		if err := os.Remove(filepath.Join(place, filepath.FromSlash(p))); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return folder, err
		}
	}
	if err := removeEmpty(place); err != nil {
		return folder, err
	}
	return l.settle(u, folder)
}

// inPlace writes a file over the one that is there, by way of the staging folder.
func inPlace(f file, folder, staging string, date time.Time) (bool, error) {
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
	return true, f.put(folder, date)
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
		return "", fmt.Errorf("%w: version.txt says \"%s\"", ErrMixed, label)
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
