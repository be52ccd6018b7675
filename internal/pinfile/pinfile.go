// Package pinfile reads and writes pin files: a pin written down, to keep or to share.
// Everything in one is data. Reading it runs nothing and touches nothing, and what it
// asks for goes through the same checks as what the player asks for.
package pinfile

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/problem"
	"morvant/internal/rules"
	"morvant/internal/state"
	"morvant/internal/strict"
)

// Format is the version of the format that is written and read.
const Format = "morvant-pin/1"

// MaxSize bounds a pin file, in bytes, and maxItems each of its lists.
const (
	MaxSize  = 1 << 20
	maxItems = 10_000
)

// Errors that callers test for.
var (
	ErrFormat = errors.New("this pin file cannot be used")

	// ErrRuns is returned for a text that the system would run.
	ErrRuns = errors.New("a pin file may not write what can be run")
)

// runs are the endings of files that a system starts, or that a program loads to run, by
// their name alone.
var runs = []string{
	".exe", ".dll", ".com", ".scr", ".cpl", ".pif", ".msi", ".msp", ".bat", ".cmd", ".ps1", ".psm1", ".vbs", ".vbe", ".js", ".jse", ".wsf", ".wsh", ".hta", ".lnk", ".url", ".reg", ".jar",
	".sh", ".bash", ".zsh", ".fish", ".command", ".desktop", ".service", ".so", ".dylib", ".app", ".py", ".pl", ".rb", ".lua",
}

// Runs reports whether the name of a file says that it can be run.
func Runs(name string) bool {
	// Windows takes no notice of dots and spaces at the end.
	return slices.Contains(runs, strings.ToLower(path.Ext(strings.TrimRight(name, ". "))))
}

// Overlay is some files of another build.
type Overlay struct {
	Build      string        `toml:"build"` // "public/1.2.0", as the writer called it
	Digest     digest.Digest `toml:"digest"`
	Components []string      `toml:"components,omitempty"`
	Files      string        `toml:"files"`          // a pattern
	Mods       bool          `toml:"mods,omitempty"` // it is a set of mods
}

// Source is where the writer has the build from.
type Source struct {
	Address string `toml:"address"`
	Key     string `toml:"key"` // that signs it
}

// File is a pin file.
type File struct {
	Format     string         `toml:"format"`
	Game       string         `toml:"game"` // the writer's name for it
	Title      string         `toml:"title,omitempty"`
	Build      string         `toml:"build"` // label
	Channel    string         `toml:"channel,omitempty"`
	Digest     digest.Digest  `toml:"digest"`                    // of the build, all components
	Content    *digest.Digest `toml:"content,omitempty"`         // of the manifest of all of its files
	Games      *digest.Digest `toml:"content_of_game,omitempty"` // likewise, without the player's own files that the keep rules name
	Date       *time.Time     `toml:"date,omitempty"`            // when the build was released or recorded
	Components []string       `toml:"components,omitempty"`
	Keep       []string       `toml:"keep,omitempty"`
	LeaveOut   []string       `toml:"leave_out,omitempty"`
	// Distributor is what the adapter that the build comes from calls itself, and ID the distributor's name for the
	// build. Nothing is ever started by them.
	Distributor string            `toml:"distributor,omitempty"`
	ID          string            `toml:"id,omitempty"`
	Feeds       []Source          `toml:"feed,omitempty"`
	Overlays    []Overlay         `toml:"overlay,omitempty"`
	Companions  []state.Companion `toml:"companion,omitempty"`
	Edits       []state.Edit      `toml:"edit,omitempty"`
}

const head = "# A pin: which build a game is to be held to. Apply it with: morvant pinfile apply FILE\n"

// Encode writes the file.
func (f *File) Encode() ([]byte, error) {
	f.Format = Format
	b, err := toml.Marshal(f)
	return append([]byte(head), b...), err
}

// Decode reads a pin file and checks all of it.
func Decode(b []byte) (*File, error) {
	if len(b) > MaxSize {
		return nil, fmt.Errorf("%w: it is larger than %d KB", ErrFormat, MaxSize>>10)
	}
	var version struct {
		Format string `toml:"format"`
	}
	if err := toml.Unmarshal(strict.Text(b), &version); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrFormat, strict.Decode(b, &File{}))
	}
	if version.Format != Format {
		if strings.HasPrefix(version.Format, "morvant-pin/") {
			return nil, fmt.Errorf("the pin file was %w: \"%s\"", problem.ErrNewer, version.Format)
		}
		return nil, fmt.Errorf("%w: its format is \"%s\"", ErrFormat, version.Format)
	}
	f := &File{}
	if err := strict.Decode(b, f); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrFormat, err)
	}
	if err := f.check(); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFormat, err)
	}
	// An empty list says no more than none.
	f.Components, f.Keep, f.LeaveOut, f.Feeds = orNone(f.Components), orNone(f.Keep), orNone(f.LeaveOut), orNone(f.Feeds)
	f.Overlays, f.Companions, f.Edits = orNone(f.Overlays), orNone(f.Companions), orNone(f.Edits)
	for i := range f.Overlays {
		f.Overlays[i].Components = orNone(f.Overlays[i].Components)
	}
	return f, nil
}

func orNone[T any](list []T) []T {
	if len(list) == 0 {
		return nil
	}
	return list
}

func (f *File) check() error {
	for _, n := range []int{len(f.Components), len(f.Keep), len(f.LeaveOut), len(f.Feeds), len(f.Overlays), len(f.Companions), len(f.Edits)} {
		if n > maxItems {
			return fmt.Errorf("it lists %d entries", n)
		}
	}
	if f.Digest == (digest.Digest{}) {
		return errors.New("it does not give the digest of the build")
	}
	errs := []error{state.CheckName(f.Game), catalogue.CheckLabel(f.Build), (rules.Rules{Keep: f.Keep}).Check(), catalogue.CheckText(f.Title), catalogue.CheckText(f.ID)}
	if f.Distributor != "" {
		errs = append(errs, catalogue.CheckName(f.Distributor))
	}
	if f.Channel != "" {
		errs = append(errs, catalogue.CheckChannel(f.Channel))
	}
	for _, name := range f.Components {
		errs = append(errs, catalogue.CheckName(name))
	}
	for _, s := range f.Feeds {
		errs = append(errs, catalogue.CheckText(s.Address), catalogue.CheckText(s.Key))
	}
	for _, o := range f.Overlays {
		errs = append(errs, catalogue.CheckText(o.Build), (rules.Rules{Keep: []string{o.Files}}).Check())
		if o.Digest == (digest.Digest{}) {
			errs = append(errs, fmt.Errorf("the overlay %s has no digest", o.Files))
		}
	}
	for _, k := range f.Companions {
		errs = append(errs, k.Check())
		if Runs(k.Path) || strings.HasPrefix(k.Text, "#!") {
			errs = append(errs, fmt.Errorf("the companion %s: %w", k.Path, ErrRuns))
		}
	}
	for _, e := range f.Edits {
		errs = append(errs, e.Check())
		if Runs(e.File) {
			errs = append(errs, fmt.Errorf("the edit of %s: %w", e.File, ErrRuns))
		}
	}
	return errors.Join(errs...)
}
