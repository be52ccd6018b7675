package game

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"

	"morvant/internal/block"
	"morvant/internal/manifest"
	"morvant/internal/rules"
	"morvant/internal/saves"
	"morvant/internal/state"
	"morvant/internal/strict"
	"morvant/internal/version"
	"morvant/internal/volume"
)

// Settings of a game, as people see and edit them.
type Settings struct {
	Title   string `toml:"title,omitempty"`   // how the game is called in messages
	Live    string `toml:"live"`              // the folder that the launcher starts
	Program string `toml:"program,omitempty"` // what to start, relative to the live folder
	// Arguments are what it is started with, before those that a command line adds.
	Arguments []string `toml:"arguments,omitempty"`
	// Through is a command line that is started instead, in the game's folder.
	Through string   `toml:"through,omitempty"`
	Keep    []string `toml:"keep,omitempty"`    // files that belong to the player
	Scratch []string `toml:"scratch,omitempty"` // files nobody misses
	// Guard are files of the player's that have to be there, as they were when they were last recorded.
	Guard []string `toml:"guard,omitempty"`
	// ModsFrom are folders outside of the game's in which files of it have a second name: what a mod
	// program puts into the game by hard links.
	ModsFrom []string `toml:"mods_from,omitempty"`
	// IgnoreCase says that names which differ by letter case only are one to the game, as on Windows, also
	// where the disk tells them apart.
	IgnoreCase bool `toml:"ignore_case,omitempty"`
	// OrderByTime says that the game loads its files in the order of their times, so that those that the
	// player has set by hand survive updates.
	OrderByTime bool `toml:"order_by_time,omitempty"`
	// Saves are the folders of saved games: ~, $VARIABLES, patterns; relative to the
	// live folder.
	Saves []string `toml:"saves,omitempty"`
	// With names the games that this one is tied to, with commas between them: a server, and the game that joins it.
	With string `toml:"with,omitempty"`
	// SavesPerLane gives each lane saves of its own; otherwise all share one set.
	SavesPerLane bool `toml:"saves_per_lane,omitempty"`
	// ConvertSaves is a command that is run on a copy of the saves after a pin.
	ConvertSaves string `toml:"convert_saves,omitempty"`
	// AfterPin are commands that are run after a pin, in the lane's folder.
	AfterPin []string `toml:"after_pin,omitempty"`
	// Block says how updates are kept away from a held game.
	Block []block.Rule `toml:"block,omitempty"`
	// Version says where the game itself tells which version it is.
	Version []version.Rule `toml:"version,omitempty"`
	// Waiting says where the launcher tells which update it has waiting.
	Waiting []block.Waiting `toml:"waiting,omitempty"`
	// Updating says where the launcher tells that it is at work on an update.
	Updating []block.Waiting `toml:"updating,omitempty"`
	// Launcher names the programs of the launcher, by file name or full path.
	Launcher []string `toml:"launcher,omitempty"`
}

// Rules returns the keep and scratch rules. What is guarded is the player's.
func (s *Settings) Rules() rules.Rules {
	return rules.Rules{Keep: slices.Concat(s.Keep, s.Guard, versions), Scratch: s.Scratch, IgnoreCase: s.IgnoreCase}
}

// versions are folders in which tools for programmers keep the history of the files around them. They are the player's in any game:
// to rewind one is to lose work.
var versions = []string{".git/**", ".hg/**", ".svn/**"}

// Versions names the folder of such a tool that lies in a folder; empty: none does.
func Versions(dir string) string {
	for _, pattern := range versions {
		name := strings.TrimSuffix(pattern, "/**")
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			return name
		}
	}
	return ""
}

// Tied lists the games that this one is tied to.
func (g *Game) Tied() []string {
	return strings.FieldsFunc(g.With, func(r rune) bool { return r == ',' || r == ' ' })
}

// Display returns what to call the game in messages.
func (g *Game) Display() string {
	if g.Title != "" {
		return g.Title
	}
	return g.Name
}

func (s *Settings) check() error {
	if s.Live == "" || !filepath.IsAbs(s.Live) {
		return fmt.Errorf("%w: live must be the full path of a folder, not \"%s\"", ErrSettings, s.Live)
	}
	if err := s.Rules().Check(); err != nil {
		return fmt.Errorf("%w: %v", ErrSettings, err)
	}
	for _, dir := range s.ModsFrom {
		if !filepath.IsAbs(dir) {
			return fmt.Errorf("%w: mods_from must be the full path of a folder, not \"%s\"", ErrSettings, dir)
		}
	}
	for _, p := range s.Saves {
		if err := saves.Check(p); err != nil {
			return fmt.Errorf("%w: %v", ErrSettings, err)
		}
	}
	for _, r := range s.Block {
		if err := r.Check(); err != nil {
			return fmt.Errorf("%w: %v", ErrSettings, err)
		}
	}
	for _, r := range s.Version {
		if err := r.Check(); err != nil {
			return fmt.Errorf("%w: %v", ErrSettings, err)
		}
	}
	for _, r := range slices.Concat(s.Waiting, s.Updating) {
		if err := r.Check(); err != nil {
			return fmt.Errorf("%w: %v", ErrSettings, err)
		}
	}
	if s.Program != "" && !filepath.IsLocal(filepath.FromSlash(s.Program)) {
		return fmt.Errorf("%w: program must be a path inside the live folder, not \"%s\"", ErrSettings, s.Program)
	}
	return nil
}

func parseSettings(b []byte) (*Settings, error) {
	s := &Settings{}
	if err := strict.Decode(b, s); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrSettings, err)
	}
	return s, s.check()
}

const settingsHead = `# Settings of this game. Patterns are relative to the live folder: * stands for
# anything within a name, ** for any folders. Unknown keys are errors.
`

// CheckNewName returns an error unless name can be given to a game: there are files of that name.
func CheckNewName(name string) error {
	if err := state.CheckName(name); err != nil {
		return err
	}
	if manifest.CheckPath(name) != nil {
		return fmt.Errorf("%w: \"%s\": Windows keeps this name for a device; choose another", state.ErrName, name)
	}
	return nil
}

// Create writes the settings of a new game.
func (h *Home) Create(g *Game) error {
	if err := CheckNewName(g.Name); err != nil {
		return err
	}
	if err := g.check(); err != nil {
		return err
	}
	body, err := toml.Marshal(g.Settings)
	if err != nil {
		return err
	}
	file := h.settingsFile(g.Name)
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, os.ErrExist) {
		return fmt.Errorf("a game named %s is %w", g.Name, state.ErrExists)
	}
	if err != nil {
		return err
	}
	_, err = f.Write(append([]byte(settingsHead), body...))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		os.Remove(file)
	}
	return err
}

// Edit changes single settings in a game's file; everything else in it, comments
// included, stays as people wrote it. A nil value removes the setting.
func (h *Home) Edit(name string, change map[string]any) (*Game, error) {
	file := h.settingsFile(name)
	if _, err := h.Load(name); err != nil {
		return nil, err
	}
	b, err := volume.ReadFile(file, volume.Small)
	if err != nil {
		return nil, err
	}
	keys := make([]string, 0, len(change))
	for k := range change {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	text := strict.Text(b)
	mark := b[:len(b)-len(text)]
	for _, k := range keys {
		if text, err = editKey(text, k, change[k]); err != nil {
			return nil, err
		}
	}
	b = slices.Concat(mark, text)
	s, err := parseSettings(b)
	if err != nil {
		return nil, err
	}
	if err := volume.Replace(file, b, 0o644); err != nil {
		return nil, err
	}
	return &Game{Name: name, Settings: *s}, nil
}

// editKey replaces, adds or removes one top-level key of a TOML document.
func editKey(doc []byte, key string, value any) ([]byte, error) {
	var line []byte
	if value != nil {
		var err error
		if line, err = toml.Marshal(map[string]any{key: value}); err != nil {
			return nil, err
		}
		line = bytes.TrimSuffix(line, []byte("\n"))
	}
	start, end, tables, err := findKey(doc, key)
	if err != nil {
		return nil, err
	}
	switch {
	case start >= 0 && value == nil:
		if end < len(doc) && doc[end] == '\n' {
			end++
		}
		return slices.Concat(doc[:start], doc[end:]), nil
	case start >= 0:
		return slices.Concat(doc[:start], line, doc[end:]), nil
	case value == nil:
		return doc, nil
	}
	// A new key goes in front of the first table, for it belongs to none.
	head := doc[:tables]
	if len(head) > 0 && head[len(head)-1] != '\n' {
		line = slices.Concat([]byte("\n"), line)
	}
	return slices.Concat(head, line, []byte("\n"), doc[tables:]), nil
}

// findKey returns the range of "key = value" in doc, or a negative start, and
// where the first table begins.
func findKey(doc []byte, key string) (start, end, tables int, err error) {
	p := unstable.Parser{}
	p.Reset(doc)
	start, tables = -1, len(doc)
	for p.NextExpression() {
		e := p.Expression()
		it := e.Key()
		it.Next()
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			tables = bytes.LastIndexByte(doc[:it.Node().Raw.Offset], '\n') + 1
			return start, end, tables, nil
		case unstable.KeyValue:
			if string(it.Node().Data) == key {
				start = int(e.Raw.Offset)
				end = start + int(e.Raw.Length)
			}
		}
	}
	return start, end, tables, p.Error()
}

// AddBlockRules adds block rules at the end of a game's settings; what is there
// stays as people wrote it. Rules that are there already are passed over.
func (h *Home) AddBlockRules(name string, list []block.Rule) (*Game, error) {
	return addTables(h, name, "block", list, func(g *Game) []block.Rule { return g.Block })
}

// RemoveBlockRule takes one of a game's block rules out of its settings, by its place among them.
func RemoveBlockRule(h *Home, name string, at int) error {
	g, err := h.Load(name)
	if err != nil {
		return err
	}
	if at < 0 || at >= len(g.Block) {
		return &state.UnknownError{Kind: "block rule", Name: fmt.Sprint(at + 1)}
	}
	b, err := volume.ReadFile(h.settingsFile(name), volume.Small)
	if err != nil {
		return err
	}
	heads := blockTable.FindAllIndex(b, -1)
	if len(heads) != len(g.Block) {
		return fmt.Errorf("%w: %s has its block rules in another form than Morvant writes; remove the rule there by hand", ErrSettings, h.settingsFile(name))
	}
	from, to := heads[at][0], len(b)
	if next := anyTable.FindIndex(b[heads[at][1]:]); next != nil {
		to = heads[at][1] + next[0]
	}
	rest := slices.Concat(b[:from], b[to:])
	s, err := parseSettings(rest)
	if err != nil || !slices.Equal(s.Block, slices.Delete(slices.Clone(g.Block), at, at+1)) {
		return errors.Join(fmt.Errorf("%w: the rule cannot be taken out of %s alone; remove it there by hand", ErrSettings, h.settingsFile(name)), err)
	}
	return volume.Replace(h.settingsFile(name), rest, 0o644)
}

var (
	blockTable = regexp.MustCompile(`(?m)^[ \t]*\[\[[ \t]*block[ \t]*\]\]`)
	anyTable   = regexp.MustCompile(`(?m)^[ \t]*\[`)
)

// AddVersionRules is AddBlockRules for version rules.
func (h *Home) AddVersionRules(name string, list []version.Rule) (*Game, error) {
	return addTables(h, name, "version", list, func(g *Game) []version.Rule { return g.Version })
}

// AddWaitingRules is AddBlockRules for rules about waiting updates.
func (h *Home) AddWaitingRules(name string, list []block.Waiting) (*Game, error) {
	return addTables(h, name, "waiting", list, func(g *Game) []block.Waiting { return g.Waiting })
}

// AddUpdatingRules is AddBlockRules for rules about updates that are under way.
func (h *Home) AddUpdatingRules(name string, list []block.Waiting) (*Game, error) {
	return addTables(h, name, "updating", list, func(g *Game) []block.Waiting { return g.Updating })
}

func addTables[R comparable](h *Home, name, key string, list []R, there func(*Game) []R) (*Game, error) {
	g, err := h.Load(name)
	if err != nil {
		return nil, err
	}
	b, err := volume.ReadFile(h.settingsFile(name), volume.Small)
	if err != nil {
		return nil, err
	}
	for _, r := range list {
		if slices.Contains(there(g), r) {
			continue
		}
		text, err := toml.Marshal(map[string][]R{key: {r}})
		if err != nil {
			return nil, err
		}
		if len(b) > 0 && b[len(b)-1] != '\n' {
			b = append(b, '\n')
		}
		b = append(append(b, '\n'), text...)
	}
	s, err := parseSettings(b)
	if err != nil {
		return nil, err
	}
	return &Game{Name: name, Settings: *s}, volume.Replace(h.settingsFile(name), b, 0o644)
}
