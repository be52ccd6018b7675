package status

import (
	"context"

	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// WholeBuild returns the known build that the folder is, every file of it, with nothing beside it
// but scratch files, the player's own, and what since has already, if it is given; nil if it is
// none. A build recorded on doubt does not count. A snapshot is returned rather than a feed's build, for its content is here.
func WholeBuild(ctx context.Context, l *lane.Lane, t, since *scan.Tree) (*state.Build, error) {
	known, err := compose.Known(ctx, l.Home, l.Store, l.Game)
	if err != nil {
		return nil, err
	}
	match := l.Game.Rules().Matcher()
	fold := func(p string) string { return p }
	if l.IgnoresCase() {
		fold = volume.Fold
	}
	var best *state.Build
	for _, k := range known {
		if best != nil && (best.Channel == "" || k.Build.Channel != "") || k.Build.Doubt != "" {
			continue
		}
		files := filesOf(t, k)
		of := make(map[string]bool, len(files))
		whole := len(files) > 0
		for _, f := range files {
			of[fold(f.Path)] = true
			e := t.Entry(f.Path)
			whole = whole && (match.Kept(f.Path) || match.Scratch(f.Path) || e != nil && e.Kind == scan.File && e.Known && e.Digest == f.Digest)
		}
		for i := range t.Entries {
			if e := &t.Entries[i]; whole && e.Kind == scan.File && !of[fold(e.Path)] && !match.Kept(e.Path) && !match.Scratch(e.Path) {
				whole = stood(since, e)
			}
		}
		if whole {
			best = k.Build
		}
	}
	return best, nil
}

// stood reports whether an earlier tree has the same file.
func stood(since *scan.Tree, e *scan.Entry) bool {
	if since == nil {
		return false
	}
	was := since.Entry(e.Path)
	return was != nil && was.Kind == scan.File && was.Known && was.Digest == e.Digest
}

// filesOf lists the files of those components of a build that the folder has.
func filesOf(t *scan.Tree, k identify.Known) []manifest.File {
	var files []manifest.File
	for _, p := range k.Parts {
		if p.Required || compose.Stands(t, p.Manifest) {
			files = append(files, p.Manifest.Files...)
		}
	}
	return files
}
