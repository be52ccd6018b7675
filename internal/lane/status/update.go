package status

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/version"
	"morvant/internal/volume"
)

// SaysLabel returns the label of the version that the game itself gives, and what
// said so: of a known build if it means one, else as it stands there. What the game
// wrote when it last ran does not count.
func SaysLabel(ctx context.Context, l *lane.Lane) (label string, by identify.Evidence, err error) {
	says, err := identify.Says(l.Dir, l.Game.Program, l.Game.Version)
	if err != nil {
		return "", by, err
	}
	builds, err := l.Home.Builds(ctx, l.Game.Name)
	if err != nil {
		return "", by, err
	}
	for _, e := range says {
		if e.Log || label != "" && e.Source != l.Game.Program {
			continue
		}
		label, by = shortest(e.Says), e
		for _, b := range builds {
			if version.Means(e.Says, b.Label) {
				label = b.Label
				break
			}
		}
	}
	if catalogue.CheckLabel(label) != nil {
		return "", by, nil
	}
	return label, by, nil
}

// shortest takes zeros off the end of a version of four numbers, as programs show
// them, down to three numbers.
func shortest(s string) string {
	var n [4]int
	if got, err := fmt.Sscanf(s, "%d.%d.%d.%d", &n[0], &n[1], &n[2], &n[3]); got == 4 && err == nil && n[3] == 0 {
		return fmt.Sprintf("%d.%d.%d", n[0], n[1], n[2])
	}
	return s
}

// Update is another known build that a lane has drifted towards: most likely the
// launcher has updated it.
type Update struct {
	Build *state.Build
	Done  int // files that are as in that build, of those that differ from the held one
	Of    int // files that differ between the two
	Old   int // of those, files that are still as in the held build
	Short int // and files that are shorter than in that build: not yet written to the end, perhaps
	// Beside are files that differ although they are the same in both builds.
	Beside int
}

// HalfDone reports whether some of the update is still to come, as it looks.
func (u *Update) HalfDone() bool { return u.Old+u.Short > 0 }

// Unlike counts the files that are neither as in the build nor as before: the update is to
// another build, like that one but for these.
func (u *Update) Unlike() int { return u.Of - u.Done - u.Old }

// Share returns how complete the update is, from 0 to 1.
func (u *Update) Share() float64 { return float64(u.Done) / float64(u.Of) }

// better reports whether u is to be named rather than o, which explains as much: a
// feed's build before a snapshot of one, then the one that is more complete.
func (u *Update) better(o *Update) bool {
	if offered := len(u.Build.Feeds) > 0; offered != (len(o.Build.Feeds) > 0) {
		return offered
	}
	return u.Share() > o.Share()
}

// explained is the part of the drift that another build must account for to be
// named: a player's own changes do not look like a build.
const explained = 0.5

// towards finds the build that the lane has drifted to; nil if the drift is like
// none that is known.
func towards(ctx context.Context, l *lane.Lane, t *scan.Tree, d *Drift, held *manifest.Manifest, heldBuild *state.Build) (*Update, error) {
	fold := func(p string) string { return p }
	if l.IgnoresCase() {
		fold = volume.Fold
	}
	drifted := make(map[string]bool)
	for _, e := range slices.Concat(d.Altered, d.Missing) {
		drifted[fold(e.Path)] = true
	}
	if len(drifted) == 0 {
		return nil, nil
	}
	known, err := likely(ctx, l, t, drifted, fold)
	if err != nil || len(known) == 0 {
		return nil, err
	}
	c := &comparing{tree: t, match: l.Game.Rules().Matcher(), fold: fold, drifted: drifted, holds: make(map[string]digest.Digest, len(held.Files))}
	if c.offered, err = compose.OfferedPaths(ctx, l, fold); err != nil {
		return nil, err
	}
	for _, f := range held.Files {
		c.holds[fold(f.Path)] = f.Digest
	}
	var best *Update
	bestFits := 0
	for _, k := range known {
		if k.Build.Digest() == heldBuild.Digest() || k.Build.IsUpdate() { // as it came says nothing about what it is
			continue
		}
		u, fits := c.with(k)
		if float64(fits) < explained*float64(len(drifted)) {
			continue
		}
		if best == nil || fits > bestFits || fits == bestFits && u.better(best) {
			best, bestFits = u, fits
		}
	}
	return best, nil
}

// likely lists the known builds that can account for enough of the drift: what differs is as in them.
func likely(ctx context.Context, l *lane.Lane, t *scan.Tree, drifted map[string]bool, fold func(string) string) ([]identify.Known, error) {
	on, err := compose.KnownOn(ctx, l.Home, l.Store, l.Game, slices.Collect(maps.Keys(drifted)))
	if err != nil {
		return nil, err
	}
	gone := 0 // a build that lacks them accounts for them
	for p := range drifted {
		if e := t.Entry(p); e == nil || e.Kind != scan.File {
			gone++
		}
	}
	enough := make(map[string]bool)
	for _, k := range on {
		same := gone
		for _, p := range k.Parts {
			for _, f := range p.Manifest.Files {
				if e := t.Entry(f.Path); drifted[fold(f.Path)] && e != nil && e.Kind == scan.File && e.Digest == f.Digest {
					same++
				}
			}
		}
		if float64(same) >= explained*float64(len(drifted)) {
			enough[k.Build.Key()] = true
		}
	}
	if len(enough) == 0 {
		return nil, nil
	}
	return compose.KnownOf(ctx, l.Home, l.Store, l.Game, func(b *state.Build) bool { return enough[b.Key()] })
}

// comparing compares a drifted folder with known builds.
type comparing struct {
	tree    *scan.Tree
	match   *rules.Matcher
	fold    func(string) string
	drifted map[string]bool
	holds   map[string]digest.Digest // what the held build has
	offered map[string]bool          // files of any build of a feed
}

// with says how far the folder is that build, and how many of the files that differ from the held one it accounts for.
func (c *comparing) with(k identify.Known) (u *Update, fits int) {
	u = &Update{Build: k.Build}
	other := make(map[string]manifest.File)
	for _, f := range filesOf(c.tree, k) {
		other[c.fold(f.Path)] = f
	}
	for p, is := range other {
		if was, ok := c.holds[p]; !ok || was != is.Digest {
			fits += c.consider(u, p, is, true)
		}
	}
	for p := range c.holds {
		// A snapshot may hold files of the player that no feed's build has.
		if _, ok := other[p]; !ok && (len(k.Build.Feeds) == 0 || c.offered[p]) {
			fits += c.consider(u, p, manifest.File{}, false)
		}
	}
	for p := range c.drifted {
		if was, ok := c.holds[p]; ok && was == other[p].Digest && !c.match.Kept(p) && !c.match.Scratch(p) {
			u.Beside++
		}
	}
	return u, fits
}

// consider counts one path at which the two builds differ: is is what the other one has there, if it has anything.
func (c *comparing) consider(u *Update, p string, is manifest.File, wanted bool) (fits int) {
	if c.match.Kept(p) || c.match.Scratch(p) {
		return 0
	}
	u.Of++
	was, had := c.holds[p]
	e := c.tree.Entry(p)
	there := e != nil && e.Kind == scan.File
	switch {
	case there == wanted && (!wanted || e.Digest == is.Digest):
		u.Done++
		if c.drifted[p] {
			return 1
		}
	case there == had && (!had || e.Digest == was):
		u.Old++
	case there && wanted && e.Stamp.Size < is.Size:
		u.Short++
	}
	return 0
}
