package transfer

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"morvant/internal/lane"
	"morvant/internal/lane/record"
	"morvant/internal/problem"
	"morvant/internal/rules"
	"morvant/internal/state"
)

// Errors of sets of mods.
var (
	ErrNoMods   = problem.New("no file matches, and a set of mods has at least one", "Check the patterns: they are matched with paths in the folder, as in 'Mods/Trees/**'")
	ErrModsLaid = problem.New("the mods are laid", "Lift them first")
)

// Mods lists the sets of mods of a game, by name.
func Mods(ctx context.Context, st *state.State, game string) ([]*state.Build, error) {
	all, err := st.Recorded(ctx, game)
	if err != nil {
		return nil, err
	}
	list := slices.DeleteFunc(all, func(b *state.Build) bool { return !b.IsMods() })
	slices.SortFunc(list, func(a, b *state.Build) int { return strings.Compare(a.Label, b.Label) })
	return list, nil
}

// FindMods returns the set of that name.
func FindMods(ctx context.Context, st *state.State, game, name string) (*state.Build, error) {
	list, err := Mods(ctx, st, game)
	if err != nil {
		return nil, err
	}
	name = strings.TrimPrefix(name, state.ModsLine+"/")
	var near []string
	for _, b := range list {
		if b.Label == name {
			return b, nil
		}
		near = append(near, b.Label)
	}
	return nil, &state.UnknownError{Kind: "set of mods", Name: name, Near: near}
}

// ModsOverlay is how a pin names a set.
func ModsOverlay(b *state.Build) state.Overlay {
	return state.Overlay{Build: b.UID, Name: b.Name(), Digest: b.Digest(), Pattern: "**", Mod: true}
}

// LaidIn names the lanes of a game in which a set is laid.
func LaidIn(ctx context.Context, st *state.State, b *state.Build) ([]string, error) {
	lanes, err := st.Lanes(ctx, b.Game)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, l := range lanes {
		if l.Pin.Lays(b) {
			names = append(names, l.Name)
		}
	}
	return names, nil
}

// RecordModsAgain records the files of a set anew, as they are in the lane, with those of further patterns. The
// set must be laid nowhere else.
func RecordModsAgain(ctx context.Context, l *lane.Lane, b *state.Build, patterns []string) (*Import, error) {
	in, err := LaidIn(ctx, l.Home.State, b)
	if err != nil {
		return nil, err
	}
	if others := slices.DeleteFunc(in, func(n string) bool { return n == l.Name }); len(others) > 0 {
		return nil, fmt.Errorf("%s, in lane %s: %w", b.Label, others[0], ErrModsLaid)
	}
	m, err := b.ReadManifest(ctx, l.Store)
	if err != nil {
		return nil, err
	}
	for _, f := range m.Files {
		patterns = append(patterns, rules.Literal(f.Path))
	}
	label, err := record.NextLabel(ctx, l, b.Label)
	if err != nil {
		return nil, err
	}
	return ImportBuild(ctx, l, Imports{Sources: []Source{{Path: l.Dir}}, Only: patterns, Mods: true, Label: label, Note: b.Note, Fits: b.Fits})
}
