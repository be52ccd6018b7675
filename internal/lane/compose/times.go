package compose

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/layers"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// KeepTimes gives what is composed the times that the player has set by hand, for a game that loads its
// files in that order: those that earlier pins knew, and those of files that are as they were held but for
// their time. Where the game has been updated since, nobody can tell whose the times are, and only those
// known before count. The notes say which files get one, and which of them have other content now.
// held is what the lane is held to, before it; the build itself if it is not held.
func KeepTimes(ctx context.Context, l *lane.Lane, c *Composed, before state.Pin, held plan.State, tree *scan.Tree) (name digest.Digest, notes []string, err error) {
	times, err := knownTimes(ctx, l, before)
	if err != nil {
		return name, nil, err
	}
	have := plan.FromTree(tree)
	if !before.Held() {
		held = c.State()
	}
	held = l.Spelling(have).State(held)
	if (before.Held() || len(times) == 0) && asHeld(held, have, l) {
		for _, e := range have {
			if is, there := held.Get(e.Path); there && Retimed(l, is, e.Node) {
				times[e.Path] = e.Time()
			}
		}
	}
	if len(times) == 0 {
		return name, nil, nil
	}
	if err := (&layers.Times{Of: times}).Lay(c.Sheet); err != nil {
		return name, nil, err
	}
	want := l.Spelling(have).State(c.Content())
	var kept, other []string
	for _, p := range slices.Sorted(maps.Keys(times)) {
		is, there := want.Get(p)
		if !there {
			continue
		}
		kept = append(kept, p)
		if w, held := held.Get(p); held && !w.SameContent(is) {
			other = append(other, p)
		}
	}
	if len(kept) > 0 {
		notes = append(notes, "the times that you have set stay: "+some(kept))
	}
	if len(other) > 0 {
		notes = append(notes, fmt.Sprintf("of these, %s has other content in %s, and loads at its old place", some(other), c.Build.Label))
	}
	name, err = l.Home.Player.PutTimes(ctx, times)
	return name, notes, err
}

// some names the first few.
func some(paths []string) string {
	const few = 3
	if n := len(paths) - few; n > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(paths[:few], ", "), n)
	}
	return strings.Join(paths, ", ")
}

// knownTimes returns the times that a pin knows; where the lane is not held, those of its last pin.
func knownTimes(ctx context.Context, l *lane.Lane, before state.Pin) (map[string]time.Time, error) {
	if !before.Held() {
		history, err := l.Home.History(ctx, l.Game.Name, l.Name)
		if err != nil {
			return nil, err
		}
		for _, c := range history {
			if !c.After.Times.IsZero() && c.Undone == 0 {
				before = c.After
				break
			}
		}
	}
	times, err := l.Home.Player.Times(ctx, before.Times)
	if times == nil {
		times = make(map[string]time.Time)
	}
	return times, err
}

// asHeld reports whether every file that the lane is to have stands there, whatever its time.
func asHeld(held, have plan.State, l *lane.Lane) bool {
	match := l.Game.Rules().Matcher()
	for _, e := range held {
		if e.Kind != plan.File || match.Kept(e.Path) || match.Scratch(e.Path) {
			continue
		}
		if is, there := have.Get(e.Path); !there || !is.SameContent(e.Node) {
			return false
		}
	}
	return true
}

// Retimed reports whether a file is as it should be but for its time of last change.
func Retimed(l *lane.Lane, want, is plan.Node) bool {
	if is.Kind != plan.File || want.MTime == 0 || want.MTime == is.MTime || !want.SameContent(is) || !want.Other.IsZero() && !is.Other.IsZero() {
		return false
	}
	// The disk is asked how coarse its times are only where that decides.
	by := want.Time().Sub(is.Time()).Abs()
	return by > coarsest || by > l.Traits().Clock
}

// coarsest is the resolution of file times on FAT, the coarsest in use.
const coarsest = 2 * time.Second
