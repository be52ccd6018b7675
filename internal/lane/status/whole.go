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

// WholeBuild returns the known build that the folder is, every file of it; nil if it is none. Beside
// it there are only scratch files, the player's own, and what since has already, if it is given. Of
// these last a snapshot has less than it holds: else it is a record of single files, which an overlay
// has made. Of several builds it is the one that has the most of the folder, and of two that have as
// much the snapshot, for its content is here. A build recorded on doubt does not count.
func WholeBuild(ctx context.Context, l *lane.Lane, t, since *scan.Tree) (*state.Build, error) {
	return WholeBuildUnder(ctx, l, t, since, func(string) bool { return false })
}

// WholeBuildUnder is WholeBuild where files are laid over the build: those, of which nobody can say what
// is under them.
func WholeBuildUnder(ctx context.Context, l *lane.Lane, t, since *scan.Tree, laid func(path string) bool) (*state.Build, error) {
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
	most := 0
	for _, k := range known {
		files := filesOf(t, k)
		if n := len(files); k.Build.Doubt != "" || n == 0 || n < most || n == most && (best.Channel == "" || k.Build.Channel != "") {
			continue
		}
		of := make(map[string]bool, len(files))
		whole := true
		for _, f := range files {
			of[fold(f.Path)] = true
			e := t.Entry(f.Path)
			whole = whole && (match.Kept(f.Path) || match.Scratch(f.Path) || laid(f.Path) || e != nil && e.Kind == scan.File && e.Known && e.Digest == f.Digest)
		}
		beside := 0
		for i := range t.Entries {
			if e := &t.Entries[i]; whole && e.Kind == scan.File && !of[fold(e.Path)] && !match.Kept(e.Path) && !match.Scratch(e.Path) && !laid(e.Path) {
				beside++
				whole = stood(since, e)
			}
		}
		if whole && (k.Build.Channel != "" || beside < len(files)) {
			best, most = k.Build, len(files)
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
