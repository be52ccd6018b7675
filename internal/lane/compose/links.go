package compose

import (
	"context"
	"maps"
	"path"

	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// withoutShares leaves out the folders that the lane shares, which are linked by other means.
func withoutShares(ctx context.Context, l *lane.Lane, links map[string]string) (map[string]string, error) {
	if len(links) == 0 {
		return links, nil
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, err
	}
	links = maps.Clone(links)
	for _, s := range is.Shares {
		delete(links, s.Path)
	}
	return links, nil
}

// YieldLinks leaves out the links in whose place a folder stands: the player has put it there.
func (c *Composed) YieldLinks(tree *scan.Tree) {
	links := maps.Clone(c.Attributes.Links)
	maps.DeleteFunc(links, func(p, _ string) bool {
		e := tree.Entry(p)
		return e != nil && e.Kind == scan.Dir
	})
	c.Attributes.Links = links
}

// KeepLinks gives what is composed the links that lead out of the lane's folder: those recorded with the
// build, those of the pin before, and those that are there. Where a file of the build stands, there is
// none; how many that are is returned. Links under keep rules are the player's, and no part of a pin, but
// exact brings back those that are recorded with the build. gone says which are taken off.
func KeepLinks(ctx context.Context, l *lane.Lane, c *Composed, before state.Pin, tree *scan.Tree, exact bool, gone func(path string) bool) (name digest.Digest, covered int, err error) {
	links := make(map[string]string)
	maps.Copy(links, c.Own.Links)
	was, err := l.Home.Player.Links(ctx, before.Links)
	if err != nil {
		return name, 0, err
	}
	maps.Copy(links, was)
	if links, err = withoutShares(ctx, l, links); err != nil {
		return name, 0, err
	}
	for i := range tree.Entries {
		if e := &tree.Entries[i]; e.Out {
			links[e.Path] = e.Target
		}
	}
	match := l.Game.Rules().Matcher()
	content := plan.FromManifest(c.Manifest, nil)
	maps.DeleteFunc(links, func(p, _ string) bool {
		if match.Kept(p) || match.Scratch(p) || gone(p) {
			return true
		}
		if stands(content, p) {
			covered++
			return true
		}
		return false
	})
	all := maps.Clone(links)
	for p, target := range c.Own.Links {
		if exact && match.Kept(p) && !stands(content, p) {
			all[p] = target
		}
	}
	c.Attributes.Links = all
	c.YieldLinks(tree)
	if len(links) == 0 && len(c.Own.Links) == 0 && before.Links == (digest.Digest{}) {
		return name, covered, nil
	}
	name, err = l.Home.Player.PutLinks(ctx, links)
	return name, covered, err
}

// stands reports whether the build has something at p, below it, or a file above it.
func stands(s plan.State, p string) bool {
	if _, there := s.Get(p); there {
		return true
	}
	for d := path.Dir(p); d != "."; d = path.Dir(d) {
		if n, there := s.Get(d); there {
			return n.Kind != plan.Dir
		}
	}
	return false
}
