package game

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"morvant/internal/database"
	"morvant/internal/manifest"
	"morvant/internal/userpath"
)

// Errors that callers test for.
var (
	ErrUnknown = errors.New("not known")
	ErrExists  = errors.New("already there")
	ErrName    = errors.New("name not allowed")
	ErrFolder  = errors.New("this folder cannot be a live folder")
	// ErrProtected is wrapped along with ErrFolder where it is a matter of rights.
	ErrProtected = errors.New("is protected: you may not write there")
	ErrSettings  = errors.New("the settings cannot be used")
	ErrBusy      = errors.New("another Morvant is working on this game")
)

// Home is Morvant's own folder.
type Home struct {
	dir  string
	db   *sql.DB
	lane string // see UseLane
}

// OpenHome opens the home at dir, making it if need be.
func OpenHome(ctx context.Context, dir string) (*Home, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Join(dir, "games"), 0o755); err != nil {
		return nil, err
	}
	// Compared with live folders, which are kept with links resolved.
	if dir, err = filepath.EvalSymlinks(dir); err != nil {
		return nil, err
	}
	db, err := database.Open(ctx, filepath.Join(dir, "state.db"), schema)
	if err != nil {
		return nil, err
	}
	return &Home{dir: dir, db: db}, nil
}

// SetStateAside renames a state that cannot be read and returns its new name. No
// process may have it open.
func SetStateAside(dir string) (string, error) {
	file := filepath.Join(dir, "state.db")
	aside := file + ".damaged"
	if err := os.Rename(file, aside); err != nil {
		return "", err
	}
	return aside, database.Remove(file)
}

// Close closes the home.
func (h *Home) Close() error { return h.db.Close() }

// Dir returns the home's folder.
func (h *Home) Dir() string { return h.dir }

// StoreDir returns the folder of the store.
func (h *Home) StoreDir() string { return filepath.Join(h.dir, "store") }

// CacheFile returns the file that remembers what was read.
func (h *Home) CacheFile() string { return filepath.Join(h.dir, "cache.db") }

// FeedsDir returns the folder of a game's feeds.
func (h *Home) FeedsDir(name string) string { return filepath.Join(h.dir, "feeds", name) }

func (h *Home) settingsFile(name string) string {
	return filepath.Join(h.dir, "games", name+".toml")
}

// SettingsFile returns the file that holds a game's settings.
func (h *Home) SettingsFile(name string) string { return h.settingsFile(name) }

var gameName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}$`)

// CheckName returns an error unless name can be the name of a game.
func CheckName(name string) error {
	if !gameName.MatchString(name) {
		return fmt.Errorf("%w: %q: a game's name has lower-case letters, digits and dashes, at most 64", ErrName, name)
	}
	return nil
}

// Names lists the registered games.
func (h *Home) Names() ([]string, error) {
	list, err := os.ReadDir(filepath.Join(h.dir, "games"))
	if err != nil {
		return nil, err
	}
	var names []string
	for _, e := range list {
		if name, ok := strings.CutSuffix(e.Name(), ".toml"); ok && gameName.MatchString(name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names, nil
}

// Game is a registered game.
type Game struct {
	Name string
	Settings
}

// Load reads the settings of a game.
func (h *Home) Load(name string) (*Game, error) {
	if err := CheckName(name); err != nil {
		return nil, err
	}
	b, err := os.ReadFile(h.settingsFile(name))
	if errors.Is(err, fs.ErrNotExist) {
		names, err := h.Names()
		if err != nil {
			return nil, err
		}
		return nil, &UnknownError{Kind: "game", Name: name, Near: nearest(name, names)}
	}
	if err != nil {
		return nil, err
	}
	s, err := parseSettings(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", h.settingsFile(name), err)
	}
	return &Game{Name: name, Settings: *s}, nil
}

// Games loads every registered game. One whose settings cannot be read is in
// broken, by name.
func (h *Home) Games() (games []*Game, broken map[string]error, err error) {
	names, err := h.Names()
	if err != nil {
		return nil, nil, err
	}
	broken = make(map[string]error)
	for _, name := range names {
		g, err := h.Load(name)
		if err != nil {
			broken[name] = err
			continue
		}
		games = append(games, g)
	}
	return games, broken, nil
}

// resolve makes dir absolute, with links resolved.
func resolve(dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	return filepath.EvalSymlinks(dir)
}

// CheckFolder returns the real path of dir if it can be the folder of a lane of the
// game named name, else an error that wraps ErrFolder and says why not.
func (h *Home) CheckFolder(ctx context.Context, name, lane, dir string) (string, error) {
	bad := func(format string, args ...any) (string, error) {
		return "", fmt.Errorf("%w: %w", ErrFolder, fmt.Errorf(format, args...))
	}
	real, err := resolve(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return bad("%s does not exist", dir)
	case err != nil:
		return bad("%v", err)
	}
	info, err := os.Stat(real)
	if err != nil {
		return bad("%v", err)
	}
	if !info.IsDir() {
		return bad("%s is not a folder", dir)
	}
	if filepath.Dir(real) == real {
		return bad("%s is the root of a file system", dir)
	}
	if home, err := os.UserHomeDir(); err == nil {
		if home, err = resolve(home); err == nil && userpath.Within(home, real) {
			return bad("%s is your home folder or holds it", dir)
		}
	}
	switch {
	case userpath.Within(real, h.dir):
		return bad("%s is inside Morvant's own folder %s", dir, h.dir)
	case userpath.Within(h.dir, real):
		return bad("%s holds Morvant's own folder %s; choose another with --home", dir, h.dir)
	}
	if err := h.overlapping(ctx, real, name, lane); err != nil {
		return "", err
	}
	f, err := os.Open(real)
	if err != nil {
		return bad("%s cannot be read: %v", dir, errors.Unwrap(err))
	}
	f.Close()
	SweepProbes(real)
	probe, err := os.CreateTemp(real, manifest.ProbePrefix+"*")
	if err != nil {
		if errors.Is(err, fs.ErrPermission) {
			return bad("%s %w", dir, ErrProtected)
		}
		return bad("%s cannot be written to: %v", dir, errors.Unwrap(err))
	}
	probe.Close()
	return real, os.Remove(probe.Name())
}

// SweepProbes removes what a run that was killed while it tried a folder has left there.
func SweepProbes(dir string) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), manifest.ProbePrefix) {
			_ = os.Remove(filepath.Join(dir, e.Name()))
		}
	}
}

// Lock is held while a game is worked on.
type Lock struct{ f *flock.Flock }

// Lock takes the game's lock, waiting up to patience for another process to let
// go of it. who describes the holder to others.
func (h *Home) Lock(ctx context.Context, name, who string, patience time.Duration) (*Lock, error) {
	if err := os.MkdirAll(filepath.Join(h.dir, "locks"), 0o755); err != nil {
		return nil, err
	}
	file := filepath.Join(h.dir, "locks", name)
	f := flock.New(file)
	waiting, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if ok, err := f.TryLockContext(waiting, 50*time.Millisecond); !ok {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil && !errors.Is(err, context.DeadlineExceeded) {
			return nil, err
		}
		holder, _ := os.ReadFile(file + ".holder")
		return nil, fmt.Errorf("%w: %s", ErrBusy, strings.TrimSpace(string(holder)))
	}
	// Only for the message above; the lock itself does not depend on it.
	_ = os.WriteFile(file+".holder", []byte(fmt.Sprintf("%s (process %d)\n", who, os.Getpid())), 0o644)
	return &Lock{f}, nil
}

// Unlock gives the lock back.
func (l *Lock) Unlock() error { return l.f.Close() }
