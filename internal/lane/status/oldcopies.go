package status

import (
	"context"
	"maps"
	"slices"
	"strings"

	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// OldCopy is a file that a mod program has put aside, as it was in another build: put back, it would be a
// piece of that build in this one.
type OldCopy struct {
	Path  string
	Build *state.Build // one that has it so
}

// copySuffixes are how files are called that programs put aside beside the one they change.
var copySuffixes = []string{".orig", ".bak"}

// OldCopies finds such files beside the files of a build, m.
func OldCopies(ctx context.Context, l *lane.Lane, t *scan.Tree, m *manifest.Manifest) ([]OldCopy, error) {
	fold := l.Game.Rules().Fold
	is := make(map[string]digest.Digest, len(m.Files))
	for _, f := range m.Files {
		is[fold(f.Path)] = f.Digest
	}
	asides := make(map[string]*scan.Entry) // by the path beside which they lie
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != scan.File || !e.Known {
			continue
		}
		for _, suffix := range copySuffixes {
			n := len(e.Path) - len(suffix)
			if n <= 0 || !strings.EqualFold(e.Path[n:], suffix) {
				continue
			}
			if now, built := is[fold(e.Path[:n])]; built && now != e.Digest {
				asides[fold(e.Path[:n])] = e
			}
		}
	}
	if len(asides) == 0 {
		return nil, nil
	}
	known, err := compose.KnownOn(ctx, l.Home, l.Store, l.Game, slices.Collect(maps.Keys(asides)))
	if err != nil {
		return nil, err
	}
	var list []OldCopy
	each(known, func(b *state.Build, f manifest.File) {
		p := fold(f.Path)
		if e := asides[p]; e != nil && e.Digest == f.Digest {
			list = append(list, OldCopy{e.Path, b})
			delete(asides, p)
		}
	})
	slices.SortFunc(list, func(a, b OldCopy) int { return strings.Compare(a.Path, b.Path) })
	return list, nil
}
