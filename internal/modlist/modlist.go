// Package modlist reads and writes lists of mods: which files a set of mods has, by name, size and digest, and
// nothing of their content. Who has the files can put the set together from such a list. Reading one touches
// nothing, and nothing in it can make a file a program or lead out of a game's folder.
package modlist

import (
	"errors"
	"fmt"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/problem"
	"morvant/internal/strict"
)

// Format is the version of the format that is written and read.
const Format = "morvant-mod-list/1"

// MaxSize bounds a list, in bytes, and maxFiles what it lists.
const (
	MaxSize  = 64 << 20
	maxFiles = 200_000
	maxFits  = 1000
)

// ErrFormat is returned for a list that cannot be used.
var ErrFormat = problem.New("this list of mods cannot be used", "Ask whoever wrote it for another; nothing was changed")

// File is a file of the set.
type File struct {
	Path   string        `toml:"path"`
	Size   int64         `toml:"size"` // bytes
	Digest digest.Digest `toml:"digest"`
}

// List is a list of mods.
type List struct {
	Format string   `toml:"format"`
	Game   string   `toml:"game"` // the writer's name for it
	Name   string   `toml:"name"`
	Note   string   `toml:"note,omitempty"`
	Fits   []string `toml:"fits,omitempty"` // labels of builds that it is for
	Files  []File   `toml:"file"`
}

const head = "# Mods: which files a set has, without their content. Put it together: morvant mods take FILE --from FOLDER\n"

// Encode writes the list.
func (l *List) Encode() ([]byte, error) {
	l.Format = Format
	b, err := toml.Marshal(l)
	return append([]byte(head), b...), err
}

// Decode reads a list and checks all of it.
func Decode(b []byte) (*List, error) {
	if len(b) > MaxSize {
		return nil, fmt.Errorf("%w: it is larger than %d MB", ErrFormat, MaxSize>>20)
	}
	var version struct {
		Format string `toml:"format"`
	}
	if err := toml.Unmarshal(strict.Text(b), &version); err == nil && version.Format != Format && strings.HasPrefix(version.Format, "morvant-mod-list/") {
		return nil, fmt.Errorf("the list was %w: \"%s\"", problem.ErrNewer, version.Format)
	}
	l := &List{}
	if err := strict.Decode(b, l); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrFormat, err)
	}
	if l.Format != Format {
		return nil, fmt.Errorf("%w: its format is \"%s\", not %s", ErrFormat, l.Format, Format)
	}
	return l, l.check()
}

func (l *List) check() error {
	bad := func(err error) error {
		if err == nil {
			return nil
		}
		return fmt.Errorf("%w: %w", ErrFormat, err)
	}
	if err := errors.Join(catalogue.CheckLabel(l.Name), catalogue.CheckText(l.Note), catalogue.CheckText(l.Game)); err != nil {
		return bad(err)
	}
	if len(l.Files) == 0 || len(l.Files) > maxFiles || len(l.Fits) > maxFits {
		return bad(fmt.Errorf("it lists %d files, for %d builds", len(l.Files), len(l.Fits)))
	}
	for _, label := range l.Fits {
		if err := catalogue.CheckLabel(label); err != nil {
			return bad(err)
		}
	}
	m := l.Manifest()
	return bad(m.Validate())
}

// Manifest lists the files.
func (l *List) Manifest() *manifest.Manifest {
	m := &manifest.Manifest{}
	for _, f := range l.Files {
		m.Files = append(m.Files, manifest.File{Path: f.Path, Size: f.Size, Digest: f.Digest})
	}
	m.Sort()
	return m
}

// Of makes the list of a set.
func Of(game, name, note string, fits []string, m *manifest.Manifest) *List {
	l := &List{Game: game, Name: name, Note: note, Fits: fits}
	for _, f := range m.Files {
		l.Files = append(l.Files, File{f.Path, f.Size, f.Digest})
	}
	return l
}
