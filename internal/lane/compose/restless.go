package compose

import (
	"context"
	"path"
	"regexp"
	"slices"

	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/rules"
	"morvant/internal/scan"
)

// Restless is a large file that keeps changing and is no distributor's: a shader cache, most likely.
type Restless struct {
	Path  string
	Bytes int64
	// Rule is the scratch rule that would be about it: its folder, if that is called like one of caches.
	Rule string
}

// cachey is how folders and files are called that programs write for themselves.
var cachey = regexp.MustCompile(`(?i)(cache|shader|crash|dump|(^|[/._-])(temp|tmp|logs?)([/._-]|$))`)

// FindRestless lists such files of a tree of the lane that no known build has, none that came as an update either, and that no
// layer of the pin brings: nothing that may be of a build is ever proposed to be nobody's. One is told from a game's own archive, which an update
// changes, by what it is called like and by changing alone, or by changing at two looks in a row.
func FindRestless(ctx context.Context, l *lane.Lane, t *scan.Tree) ([]*Restless, error) {
	match := l.Game.Rules().Matcher()
	var list []*Restless
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != scan.File || match.Kept(e.Path) || !(e.Changes >= 2 || e.Changes == 1 && e.Alone && cachey.MatchString(e.Path)) {
			continue
		}
		r := &Restless{Path: e.Path, Bytes: e.Stamp.Size, Rule: rules.Literal(e.Path)}
		if dir := path.Dir(e.Path); cachey.MatchString(path.Base(dir)) {
			r.Rule = rules.Literal(dir) + "/**"
		}
		list = append(list, r)
	}
	if len(list) == 0 {
		return nil, nil
	}
	var paths []string
	for _, r := range list {
		paths = append(paths, r.Path)
	}
	known, err := KnownOn(ctx, l.Home, l.Store, l.Game, paths)
	if err != nil {
		return nil, err
	}
	built := identify.Paths(known, l.Game.Rules().Fold)
	_, held, err := Pinned(ctx, l)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(list, func(r *Restless) bool {
		return built[l.Game.Rules().Fold(r.Path)] || held != nil && held.Sheet.At(r.Path).Wants()
	}), nil
}
