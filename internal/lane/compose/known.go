package compose

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/feed/fetch"
	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/manifest"
	"morvant/internal/problem"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// Known reads the manifests of every build of a game, for identify. The player's
// own files are left out of snapshots, and what is no build is left out itself.
func Known(ctx context.Context, home *game.Home, s *store.Store, g *game.Game) ([]identify.Known, error) {
	builds, err := home.Builds(ctx, g.Name)
	if err != nil {
		return nil, err
	}
	match := g.Rules().Matcher()
	var list []identify.Known
	for _, b := range builds {
		if b.Fragment {
			continue
		}
		k := identify.Known{Build: b}
		if len(b.Feeds) > 0 {
			k.Parts, err = OfferedParts(b)
		} else if b.Channel == state.ImportedLine {
			k.Parts, err = importedParts(ctx, s, b, b.ComponentNames())
		} else {
			var m *manifest.Manifest
			m, err = b.ReadManifest(ctx, s)
			if err == nil {
				m = m.Without(func(p string) bool { return match.Kept(p) || match.Scratch(p) })
				k.Parts = []identify.Part{{Name: "folder", Required: true, Manifest: m}}
			}
		}
		if errors.Is(err, store.ErrMissing) {
			err = fmt.Errorf("%w; see %s", err, problem.MendStore)
		}
		if err != nil && (len(b.Feeds) > 0 || errors.Is(err, store.ErrMissing)) {
			game.TellLeftOut(home, b, err)
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
	// Bytes of content that is in the store or in the lane's folder, by build, and Wanted those
	// of all of it; of the components that the lane has, or all if it has none. Of a file that
	// is here in part only what the store holds counts.
	Bytes, Wanted map[*state.Build]int64
	// Unread says that files of the folder have not been looked into, and may add to that;
	// Fresh that none ever has been.
	Unread, Fresh bool
}

// Here finds out how much is on this computer of the builds that have components. It goes by
// what is remembered of the lane's folder, and reads nothing.
func Here(ctx context.Context, home *game.Home, s *store.Store, g *game.Game, builds []*state.Build) (*Presence, error) {
	p := &Presence{Bytes: make(map[*state.Build]int64), Wanted: make(map[*state.Build]int64)}
	live, err := liveContent(ctx, home, g)
	if err != nil {
		return nil, err
	}
	p.Unread, p.Fresh = live.unread, len(live.content) == 0
	parts := make(map[digest.Digest]*fetch.Part) // by manifest
	wanted := make(map[*state.Build][]*fetch.Part)
	all := make(map[digest.Digest]bool)
	for _, b := range builds {
		for _, c := range b.Components {
			part := parts[c.Manifest]
			switch {
			case part != nil:
			case len(b.Feeds) > 0:
				m, err := b.Feeds[0].Manifest(c.Manifest)
				if err != nil {
					game.TellLeftOut(home, b, err)
					continue
				}
				part = &fetch.Part{Part: c, Manifest: m}
				parts[c.Manifest] = part
				for _, f := range m.Files {
					all[f.Digest] = true
				}
			default:
				continue
			}
			wanted[b] = append(wanted[b], part)
		}
		if len(wanted[b]) == 0 && b.UID != "" {
			// No feed offers it any more: what was chosen of it is recorded as one.
			m, err := b.ReadManifest(ctx, s)
			if err != nil {
				game.TellLeftOut(home, b, err)
				continue
			}
			wanted[b] = []*fetch.Part{{Part: catalogue.Part{Manifest: b.Manifest}, Manifest: m}}
			parts[b.Manifest] = wanted[b][0]
			for _, f := range m.Files {
				all[f.Digest] = true
			}
		}
		wanted[b] = live.chosen(b, wanted[b])
	}
	var ask []digest.Digest
	for d := range all {
		if !live.content[d] {
			ask = append(ask, d)
		}
	}
	lacks, err := s.Lacks(ctx, ask)
	if err != nil {
		return nil, err
	}
	have := wholeHere(parts, lacks)
	for _, b := range builds {
		if len(wanted[b]) == 0 {
			p.Wanted[b] = b.Bytes // unknown key it but its size
		}
		for _, part := range wanted[b] {
			p.Wanted[b] += part.Manifest.Bytes()
			p.Bytes[b] += have[part.Part.Manifest]
			if have[part.Part.Manifest] < part.Manifest.Bytes() && len(b.Feeds) > 0 {
				n, err := piecesHere(ctx, s, fetch.CachedLayout(b.Feeds[0], *part), part, lacks)
				if err != nil {
					return nil, err
				}
				p.Bytes[b] += n
			}
		}
	}
	return p, nil
}

// wholeHere adds up the bytes of files that are here as a whole, by manifest.
func wholeHere(parts map[digest.Digest]*fetch.Part, lacks map[digest.Digest]bool) map[digest.Digest]int64 {
	have := make(map[digest.Digest]int64)
	for d, part := range parts {
		for _, f := range part.Manifest.Files {
			if !lacks[f.Digest] {
				have[d] += f.Size
			}
		}
	}
	return have
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

// held is what the folder of a lane is known to hold.
type held struct {
	content map[digest.Digest]bool
	unread  bool // it may hold more
	tree    *scan.Tree
	pin     state.Pin
}

// chosen returns those parts of a build that the lane has: that it is held to, or else whose
// files stand in its folder; all of them where that is none.
func (h *held) chosen(b *state.Build, parts []*fetch.Part) []*fetch.Part {
	required, err := requiredOf(b)
	if err != nil || h.tree == nil || len(b.Feeds) == 0 {
		return parts
	}
	var list []*fetch.Part
	for _, p := range parts {
		has := len(h.pin.Components) == 0 && Stands(h.tree, p.Manifest)
		if has || slices.Contains(h.pin.Components, p.Part.Name) || slices.Contains(required, p.Part.Name) {
			list = append(list, p)
		}
	}
	if len(list) == 0 {
		return parts
	}
	return list
}

// liveContent finds out what the folder of the lane is known to hold.
func liveContent(ctx context.Context, home *game.Home, g *game.Game) (*held, error) {
	h := &held{content: make(map[digest.Digest]bool)}
	is, err := home.Lane(ctx, g.Name, "")
	if err != nil {
		return nil, err
	}
	h.pin = is.Pin
	root, err := os.OpenRoot(g.Folder(is))
	if errors.Is(err, os.ErrNotExist) {
		return h, nil
	}
	if err != nil {
		return nil, err
	}
	defer root.Close()
	cache := scan.OpenCache(home.CacheFile())
	defer cache.Close()
	if h.tree, err = scan.Walk(ctx, root, g.Rules()); err != nil {
		return nil, err
	}
	if err := cache.Recall(ctx, state.CacheKey(g.Name, is.Name), h.tree); err != nil {
		return nil, err
	}
	match := g.Rules().Matcher()
	for i := range h.tree.Entries {
		switch e := &h.tree.Entries[i]; {
		case e.Kind != scan.File:
		case e.Known:
			h.content[e.Digest] = true
		case !match.Kept(e.Path):
			h.unread = true
		}
	}
	return h, nil
}
