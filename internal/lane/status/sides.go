package status

import (
	"context"
	"os"
	"slices"
	"strings"

	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/rules"
	"morvant/internal/state"
)

// LaneSide returns the folder of another lane as it is now as a side of a comparison.
func LaneSide(ctx context.Context, l *lane.Lane, name string) (*Side, error) {
	if name == l.Name {
		return HereSide(ctx, l)
	}
	is, err := l.Find(ctx, name)
	if err != nil {
		return nil, err
	}
	o, err := l.Beside(is)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	s, err := HereSide(ctx, o)
	if err != nil {
		return nil, err
	}
	s.Label = "lane/" + name
	return s, nil
}

// FolderSide returns a folder elsewhere as a side of a comparison. Nothing is written into it.
func FolderSide(ctx context.Context, l *lane.Lane, dir string) (*Side, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	t, err := l.LookAt(ctx, root, dir)
	if err != nil {
		return nil, err
	}
	t.AdmitLinks(nil)
	return &Side{Label: dir, Manifest: t.Manifest(), Links: plan.FromTree(t).Links()}, nil
}

// ModsSide returns some mods, and nothing of a game, as a side of a comparison.
func ModsSide(label string, m *manifest.Manifest) *Side {
	return &Side{Label: label, Manifest: m, mods: true}
}

// RecordedMods returns a recorded set of mods as a side of a comparison.
func RecordedMods(ctx context.Context, l *lane.Lane, b *state.Build) (*Side, error) {
	m, err := b.ReadManifest(ctx, l.Store)
	if err != nil {
		return nil, err
	}
	return ModsSide("mods/"+b.Label, m), nil
}

// ModFolder is how the files of one folder of mods compare, in numbers.
type ModFolder struct {
	Path         string // of a file that lies in none: the file
	From, To     int    // files that only the one side has
	Differ, Same int
}

// Alike reports whether both sides have the same of it.
func (f *ModFolder) Alike() bool { return f.From+f.To+f.Differ == 0 }

// modFolders compares mods, folder by folder.
func modFolders(r rules.Rules, was, is *manifest.Manifest) []*ModFolder {
	of := make(map[string]*ModFolder)
	folder := func(p string) *ModFolder {
		name := modFolder(r, p)
		if of[name] == nil {
			of[name] = &ModFolder{Path: name}
		}
		return of[name]
	}
	before, after := contents(was), contents(is)
	for p, a := range before {
		switch b, there := after[p]; {
		case !there:
			folder(p).From++
		case a != b:
			folder(p).Differ++
		default:
			folder(p).Same++
		}
	}
	for p := range after {
		if _, there := before[p]; !there {
			folder(p).To++
		}
	}
	var list []*ModFolder
	for _, f := range of {
		list = append(list, f)
	}
	slices.SortFunc(list, func(a, b *ModFolder) int { return strings.Compare(a.Path, b.Path) })
	return list
}

// contents tells what each file and link of a manifest holds, by its path.
func contents(m *manifest.Manifest) map[string]string {
	all := make(map[string]string, len(m.Files)+len(m.Links))
	for _, f := range m.Files {
		all[f.Path] = f.Digest.String()
	}
	for _, k := range m.Links {
		all[k.Path] = "to " + k.Target
	}
	return all
}

// modFolder names the folder of mods that a file belongs to: the one right below what a keep rule names,
// and where none is about it, the second from the top. A file that lies in none is one of its own.
func modFolder(r rules.Rules, p string) string {
	names := strings.Split(p, "/")
	depth := min(2, max(1, len(names)-1))
	for _, pattern := range r.Keep {
		fixed := pattern
		if i := strings.IndexAny(fixed, "*?[{"); i >= 0 {
			fixed = fixed[:i]
		}
		if fixed = strings.TrimSuffix(fixed, "/"); fixed != "" && strings.HasPrefix(r.Fold(p), r.Fold(fixed)+"/") {
			depth = strings.Count(fixed, "/") + 2
			break
		}
	}
	return strings.Join(names[:min(depth, len(names))], "/")
}
