package compose

import (
	"context"
	"path"
	"regexp"
	"slices"

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
	// Again says that a snapshot has it in an older state, and another one would have it in one more.
	Again bool
}

// cachey is how folders and files are called that programs write for themselves.
var cachey = regexp.MustCompile(`(?i)(cache|shader|crash|dump|(^|[/._-])(temp|tmp|logs?)([/._-]|$))`)

// FindRestless lists such files of a tree of the lane. One is told from a game's own archive, which an update
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
	known, err := Known(ctx, l.Home, l.Store, l.Game)
	if err != nil {
		return nil, err
	}
	theirs, recorded := make(map[string]bool), make(map[string]bool)
	fold := l.Game.Rules().Fold
	for _, k := range known {
		for _, p := range k.Parts {
			for _, f := range p.Manifest.Files {
				recorded[fold(f.Path)] = true
				theirs[fold(f.Path)] = theirs[fold(f.Path)] || k.Build.Components != nil
			}
		}
	}
	list = slices.DeleteFunc(list, func(r *Restless) bool { return theirs[fold(r.Path)] })
	for _, r := range list {
		r.Again = recorded[fold(r.Path)]
	}
	return list, nil
}
