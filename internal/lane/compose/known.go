package compose

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"morvant/internal/adapter"
	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/feed/fetch"
	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/index"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/problem"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// Known tells what every build of a game holds, for identify. The player's own files are left out of snapshots, and what is no
// build is left out itself. The manifests are to be read only.
func Known(ctx context.Context, home *game.Home, s *store.Store, g *game.Game) ([]identify.Known, error) {
	k, err := knownOf(ctx, home, s, g, nil, nil)
	if err != nil {
		return nil, err
	}
	return k.all(ctx)
}

// KnownOn is Known about some paths: of others the manifests tell nothing.
func KnownOn(ctx context.Context, home *game.Home, s *store.Store, g *game.Game, paths []string) ([]identify.Known, error) {
	k, err := knownOf(ctx, home, s, g, nil, nil)
	if err != nil {
		return nil, err
	}
	return k.on(ctx, paths)
}

// KnownOf is Known of some builds.
func KnownOf(ctx context.Context, home *game.Home, s *store.Store, g *game.Game, is func(*state.Build) bool) ([]identify.Known, error) {
	k, err := knownOf(ctx, home, s, g, nil, is)
	if err != nil {
		return nil, err
	}
	return k.all(ctx)
}

// With tells which builds of a list have a file of this content, and where it lies in them.
func With(ctx context.Context, home *game.Home, s *store.Store, g *game.Game, builds []*state.Build, file io.Reader) (map[*state.Build]string, error) {
	k, err := knownOf(ctx, home, s, g, builds, nil)
	if err != nil {
		return nil, err
	}
	contents, err := namesOf(home, g, file)
	if err != nil {
		return nil, err
	}
	found, err := k.view.With(ctx, contents)
	if err != nil {
		return nil, err
	}
	at := make(map[*state.Build]string)
	for b, parts := range k.of {
		for _, p := range parts {
			if path, has := found[p.source.Name]; has {
				at[b] = path
			}
		}
	}
	return at, nil
}

// namesOf lists what content is known by: to Morvant, and to the distributors of a game by a digest of any kind.
func namesOf(home *game.Home, g *game.Game, file io.Reader) (map[digest.Digest]bool, error) {
	scopes := []string{""}
	feeds, err := home.Feeds(g.Name)
	if err != nil {
		return nil, err
	}
	for _, f := range feeds {
		if f.Adapter != "" {
			scopes = append(scopes, f.Scope())
		}
	}
	own := digest.NewHasher()
	out := []io.Writer{own}
	var foreign []*digest.ForeignHasher
	for _, alg := range digest.Algorithms {
		h := digest.NewForeignHasher(alg)
		foreign, out = append(foreign, h), append(out, h)
	}
	size, err := io.Copy(io.MultiWriter(out...), file)
	if err != nil {
		return nil, err
	}
	names := home.Aliases.Names(map[digest.Digest]bool{own.Digest(): true})
	names[own.Digest()] = true
	for _, h := range foreign {
		if d, err := h.Foreign(); err == nil { // else it is made to be mistaken
			for _, scope := range scopes {
				names[adapter.Teller{Scope: scope}.Name(&adapter.File{Size: size, Digest: d.String()})] = true
			}
		}
	}
	return names, nil
}

// OfferedPaths lists the paths that any build of a feed has, as fold makes them.
func OfferedPaths(ctx context.Context, l *lane.Lane, fold func(string) string) (map[string]bool, error) {
	k, err := knownOf(ctx, l.Home, l.Store, l.Game, nil, func(b *state.Build) bool { return len(b.Feeds) > 0 })
	if err != nil {
		return nil, err
	}
	return k.view.Paths(ctx, fold)
}

// known are builds, and what the index tells of them.
type known struct {
	home  *game.Home
	match *rules.Matcher
	list  []*state.Build
	of    map[*state.Build][]part
	view  *index.View
}

// part is a component of a build, and what the index calls its manifest.
type part struct {
	name     string
	required bool
	source   index.Source
}

// knownOf asks the index about those of a list of builds (nil: all of the game) that is tells; nil: all.
func knownOf(ctx context.Context, home *game.Home, s *store.Store, g *game.Game, builds []*state.Build, is func(*state.Build) bool) (k *known, err error) {
	if builds == nil {
		if builds, err = home.Builds(ctx, g.Name); err != nil {
			return nil, err
		}
	}
	k = &known{home: home, match: g.Rules().Matcher(), of: make(map[*state.Build][]part)}
	required := make(map[*feed.Feed][]string)
	for _, b := range builds {
		if b.Fragment || is != nil && !is(b) {
			continue
		}
		k.list = append(k.list, b)
		if k.of[b], err = partsOf(ctx, s, b, required); err != nil {
			return nil, err
		}
	}
	var sources []index.Source
	for _, b := range slices.Backward(k.list) { // the oldest first
		for _, p := range k.of[b] {
			sources = append(sources, p.source)
		}
	}
	k.view, err = home.Index.Of(ctx, sources)
	return k, err
}

// partsOf lists the components of a build; of a snapshot, the folder.
func partsOf(ctx context.Context, s *store.Store, b *state.Build, required map[*feed.Feed][]string) (list []part, err error) {
	recorded := func(name string, d digest.Digest, read func() (*manifest.Manifest, error)) {
		list = append(list, part{name, true, index.Source{Name: d, Line: b.Game + "\n" + b.Channel + "\n" + name, Read: func() (*index.Listed, error) {
			m, err := read()
			return &index.Listed{Manifest: m}, err
		}}})
	}
	switch {
	case len(b.Feeds) > 0:
		f := b.Feeds[0]
		if _, asked := required[f]; !asked {
			if required[f], err = requiredOf(b); err != nil {
				return nil, err
			}
		}
		for _, c := range b.Components {
			list = append(list, part{c.Name, slices.Contains(required[f], c.Name), f.Source(c)})
		}
	case b.Channel == state.ImportedLine:
		for _, c := range b.Components {
			recorded(c.Name, c.Manifest, func() (*manifest.Manifest, error) {
				parts, err := importedParts(ctx, s, b, []string{c.Name})
				if err != nil {
					return nil, err
				}
				return parts[0].Manifest, nil
			})
			list[len(list)-1].required = false
		}
	default:
		recorded("folder", b.Manifest, func() (*manifest.Manifest, error) { return b.ReadManifest(ctx, s) })
	}
	return list, nil
}

func (k *known) on(ctx context.Context, paths []string) ([]identify.Known, error) {
	found, err := k.view.On(ctx, paths)
	if err != nil {
		return nil, err
	}
	return k.builds(found)
}

func (k *known) all(ctx context.Context) ([]identify.Known, error) {
	found, err := k.view.All(ctx)
	if err != nil {
		return nil, err
	}
	return k.builds(found)
}

// builds makes builds of manifests. One of which a manifest cannot be read is left out.
func (k *known) builds(found map[digest.Digest]*manifest.Manifest) ([]identify.Known, error) {
	for name, m := range found {
		found[name] = k.home.Aliases.Manifest(m)
	}
	var list []identify.Known
	for _, b := range k.list {
		is := identify.Known{Build: b}
		var err error
		for _, p := range k.of[b] {
			if err = k.view.Errs[p.source.Name]; err != nil {
				break
			}
			m := found[p.source.Name]
			if b.Components == nil || len(b.Feeds) == 0 && b.Channel != state.ImportedLine {
				m = m.Without(func(p string) bool { return k.match.Kept(p) || k.match.Scratch(p) })
			}
			is.Parts = append(is.Parts, identify.Part{Name: p.name, Required: p.required, Manifest: m})
		}
		if errors.Is(err, store.ErrMissing) {
			err = fmt.Errorf("%w; see %s", err, problem.MendStore)
		}
		if err != nil && (len(b.Feeds) > 0 || errors.Is(err, store.ErrMissing)) {
			game.TellLeftOut(k.home, b, err)
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", b.Name(), err)
		}
		list = append(list, is)
	}
	return list, nil
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
	k, err := knownOf(ctx, home, s, g, builds, func(b *state.Build) bool { return len(b.Feeds) > 0 || b.UID != "" })
	if err != nil {
		return nil, err
	}
	known, err := k.all(ctx)
	if err != nil {
		return nil, err
	}
	parts := make(map[digest.Digest]*fetch.Part) // by manifest
	wanted := make(map[*state.Build][]*fetch.Part)
	all := make(map[digest.Digest]bool)
	for _, is := range known {
		of := []catalogue.Part{{Manifest: is.Build.Manifest}} // no feed offers it any more: what was chosen of it is recorded as one
		if len(is.Build.Feeds) > 0 || is.Build.Channel == state.ImportedLine {
			of = is.Build.Components
		}
		for i, c := range of {
			if parts[c.Manifest] == nil {
				parts[c.Manifest] = &fetch.Part{Part: c, Manifest: is.Parts[i].Manifest}
				for _, f := range is.Parts[i].Manifest.Files {
					all[f.Digest] = true
				}
			}
			wanted[is.Build] = append(wanted[is.Build], parts[c.Manifest])
		}
	}
	for _, b := range builds {
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
