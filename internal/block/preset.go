package block

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"morvant/internal/strict"
)

//go:embed presets/*.toml
var builtIn embed.FS

// ErrPreset is returned for a preset that is not there or not filled in.
var ErrPreset = errors.New("the preset cannot be used")

// Preset is rules for a kind of launcher, with gaps in braces to be filled in.
type Preset struct {
	Name  string   `toml:"-"`
	About string   `toml:"about"`
	Needs []string `toml:"needs"`
	Rules []Rule   `toml:"block"`
}

// Presets lists the presets that come along and those in dir, which win, by name.
func Presets(dir string) ([]*Preset, error) {
	found := make(map[string]*Preset)
	for _, from := range []fs.FS{builtIn, os.DirFS(dir)} {
		pattern := "*.toml"
		if from == fs.FS(builtIn) {
			pattern = "presets/*.toml"
		}
		names, err := fs.Glob(from, pattern)
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			b, err := fs.ReadFile(from, name)
			if err != nil {
				return nil, err
			}
			p := &Preset{Name: strings.TrimSuffix(path.Base(name), ".toml")}
			if err := strict.Decode(b, p); err != nil {
				return nil, fmt.Errorf("%w: %s: %v", ErrPreset, filepath.Base(name), err)
			}
			found[p.Name] = p
		}
	}
	var list []*Preset
	for _, p := range found {
		list = append(list, p)
	}
	slices.SortFunc(list, func(a, b *Preset) int { return strings.Compare(a.Name, b.Name) })
	return list, nil
}

// Fill returns the preset's rules with its gaps filled in.
func (p *Preset) Fill(values map[string]string) ([]Rule, error) {
	for _, need := range p.Needs {
		if values[need] == "" {
			return nil, fmt.Errorf("%w: %s needs %s", ErrPreset, p.Name, strings.Join(p.Needs, ", "))
		}
	}
	for name := range values {
		if !slices.Contains(p.Needs, name) {
			return nil, fmt.Errorf("%w: %s has no value \"%s\" to fill in", ErrPreset, p.Name, name)
		}
	}
	fill := func(s string, quote func(string) string) string {
		for name, v := range values {
			s = strings.ReplaceAll(s, "{"+name+"}", quote(v))
		}
		return s
	}
	plain := func(s string) string { return s }
	var list []Rule
	for _, r := range p.Rules {
		r.File, r.Path, r.Set = fill(r.File, plain), fill(r.Path, plain), fill(r.Set, plain)
		r.Find, r.Key = fill(r.Find, regexp.QuoteMeta), fill(r.Key, plain)
		if err := r.Check(); err != nil {
			return nil, err
		}
		list = append(list, r)
	}
	return list, nil
}
