package compose

import (
	"context"
	"errors"
	"fmt"
	"os"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/feed/fetch"
	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/manifest"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// Known reads the manifests of every build of a game, for identify. The player's
// own files are left out of snapshots.
func Known(ctx context.Context, home *game.Home, s *store.Store, g *game.Game) ([]identify.Known, error) {
	builds, err := home.Builds(ctx, g.Name)
	if err != nil {
		return nil, err
	}
	match := g.Rules().Matcher()
	var list []identify.Known
	for _, b := range builds {
		k := identify.Known{Build: b}
		if len(b.Feeds) > 0 {
			k.Parts, err = OfferedParts(b)
		} else {
			var m *manifest.Manifest
			m, err = b.ReadManifest(ctx, s)
			if err == nil {
				m = m.Without(func(p string) bool { return match.Kept(p) || match.Scratch(p) })
				k.Parts = []identify.Part{{Name: "folder", Required: true, Manifest: m}}
			}
		}
		if err != nil && len(b.Feeds) > 0 {
			home.Tell(fmt.Sprintf("%s is left out: %v", b.Name(), err))
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", b.Name(), err)
		}
		list = append(list, k)
	}
	return list, nil
}

// OfferedParts reads the components of a build that a feed offers.
func OfferedParts(b *state.Build) ([]identify.Part, error) {
	required := make(map[string]bool)
	names, err := requiredOf(b)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		required[name] = true
	}
	var parts []identify.Part
	for _, c := range b.Components {
		m, err := b.Feeds[0].Manifest(c.Manifest)
		if err != nil {
			return nil, err
		}
		parts = append(parts, identify.Part{Name: c.Name, Required: required[c.Name], Manifest: m})
	}
	return parts, nil
}

// Presence is how much of builds is on this computer.
type Presence struct {
	// Bytes of content that is in the store or in the live folder, by build. Of a
	// file that is here in part only what the store holds counts.
	Bytes map[*state.Build]int64
	// Unread says that files of the live folder have not been looked into, and may
	// add to that.
	Unread bool
}

// Here finds out how much is on this computer of the builds that feeds offer. It
// goes by what is remembered of the live folder, and reads nothing.
func Here(ctx context.Context, home *game.Home, s *store.Store, g *game.Game, builds []*state.Build) (*Presence, error) {
	parts := make(map[digest.Digest]*fetch.Part) // by manifest
	all := make(map[digest.Digest]bool)
	for _, b := range builds {
		for _, c := range b.Components {
			if parts[c.Manifest] != nil || len(b.Feeds) == 0 {
				continue
			}
			m, err := b.Feeds[0].Manifest(c.Manifest)
			if err != nil {
				home.Tell(fmt.Sprintf("%s is left out: %v", b.Name(), err))
				continue
			}
			parts[c.Manifest] = &fetch.Part{Part: c, Manifest: m}
			for _, f := range m.Files {
				all[f.Digest] = true
			}
		}
	}
	p := &Presence{Bytes: make(map[*state.Build]int64)}
	if len(all) == 0 {
		return p, nil
	}
	live, unread, err := liveContent(ctx, home, g)
	if err != nil {
		return nil, err
	}
	p.Unread = unread
	var ask []digest.Digest
	for d := range all {
		if !live[d] {
			ask = append(ask, d)
		}
	}
	lacks, err := s.Lacks(ctx, ask)
	if err != nil {
		return nil, err
	}
	have := make(map[digest.Digest]int64) // bytes of files that are here as a whole, by manifest
	for d, part := range parts {
		for _, f := range part.Manifest.Files {
			if !lacks[f.Digest] {
				have[d] += f.Size
			}
		}
	}
	for _, b := range builds {
		for _, c := range b.Components {
			if part := parts[c.Manifest]; part != nil && have[c.Manifest] < part.Manifest.Bytes() && len(b.Feeds) > 0 {
				n, err := piecesHere(ctx, s, fetch.CachedLayout(b.Feeds[0], *part), part, lacks)
				if err != nil {
					return nil, err
				}
				p.Bytes[b] += n
			}
			p.Bytes[b] += have[c.Manifest]
		}
	}
	return p, nil
}

// piecesHere sums up what the store holds of files that are not here as a whole.
func piecesHere(ctx context.Context, s *store.Store, l *catalogue.Layout, part *fetch.Part, lacks map[digest.Digest]bool) (int64, error) {
	if l == nil {
		return 0, nil
	}
	size := make(map[digest.Digest]int64)
	var ask []digest.Digest
	for _, f := range part.Manifest.Files {
		if !lacks[f.Digest] {
			continue
		}
		for _, i := range l.Pieces(f.Digest) {
			c := l.Chunks[i]
			if size[c.Digest] == 0 {
				ask = append(ask, c.Digest)
			}
			size[c.Digest] += int64(c.Size)
		}
	}
	missing, err := s.Missing(ctx, ask)
	var n int64
	for d, bytes := range size {
		if !missing[d] {
			n += bytes
		}
	}
	return n, err
}

// liveContent lists the content that the folder of the lane is known to hold, and whether
// it may hold more.
func liveContent(ctx context.Context, home *game.Home, g *game.Game) (have map[digest.Digest]bool, unread bool, err error) {
	have = make(map[digest.Digest]bool)
	is, err := home.Lane(ctx, g.Name, "")
	if err != nil {
		return nil, false, err
	}
	root, err := os.OpenRoot(g.Folder(is))
	if errors.Is(err, os.ErrNotExist) {
		return have, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	defer root.Close()
	cache, err := scan.OpenCache(ctx, home.CacheFile())
	if err != nil {
		return nil, false, err
	}
	defer cache.Close()
	tree, err := scan.Walk(ctx, root, g.Rules())
	if err != nil {
		return nil, false, err
	}
	if err := cache.Recall(ctx, state.CacheKey(g.Name, is.Name), tree); err != nil {
		return nil, false, err
	}
	match := g.Rules().Matcher()
	for i := range tree.Entries {
		switch e := &tree.Entries[i]; {
		case e.Kind != scan.File:
		case e.Known:
			have[e.Digest] = true
		case !match.Kept(e.Path):
			unread = true
		}
	}
	return have, unread, nil
}
