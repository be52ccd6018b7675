package scan

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/manifest"
	"morvant/internal/rules"
)

// Names finds files in folders by what they are, not by how they are called: the other names of
// files that have several. The folders are walked once, when something is first asked for.
type Names struct {
	Folders []string // full paths

	known map[file][]named
	// lacking says that not every folder could be walked: what is found in none may be in one of these.
	lacking bool
}

// file is what all names of a file have in common.
type file struct{ Device, File uint64 }

type named struct {
	path  string
	stamp Stamp
}

func (n *Names) walk(ctx context.Context) error {
	if n.known != nil {
		return nil
	}
	known := make(map[file][]named)
	for _, dir := range n.Folders {
		root, err := os.OpenRoot(dir)
		if err != nil {
			n.lacking = true
			continue // renamed, on a disk that is not there, or not for this user
		}
		t, err := Survey(ctx, root, rules.Rules{})
		root.Close()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			n.lacking = true
			continue
		}
		for i := range t.Entries {
			if e := &t.Entries[i]; e.Kind == File {
				f := file{e.Stamp.Dev, e.Stamp.Ino}
				known[f] = append(known[f], named{filepath.Join(dir, filepath.FromSlash(e.Path)), e.Stamp})
			}
		}
	}
	n.known = known
	return nil
}

// Of returns the name of a file in the folders; empty: it has none.
func (n *Names) Of(ctx context.Context, o manifest.Other) (string, error) {
	if err := n.walk(ctx); err != nil {
		return "", err
	}
	if list := n.known[file{o.Device, o.File}]; len(list) > 0 && o.File != 0 {
		return list[0].path, nil
	}
	return "", nil
}

// Open opens the file that is called name, a full path, if that is inside of one of the folders.
func (n *Names) Open(name string) (*os.File, Stamp, error) {
	for _, dir := range n.Folders {
		rest, err := filepath.Rel(dir, name)
		if err != nil || !filepath.IsLocal(rest) {
			continue
		}
		root, err := os.OpenRoot(dir)
		if err != nil {
			return nil, Stamp{}, err
		}
		defer root.Close()
		f, err := OpenFile(root, filepath.ToSlash(rest))
		if err != nil {
			return nil, Stamp{}, err
		}
		_, stamp, err := lookAt(f)
		if err != nil {
			f.Close()
			return nil, Stamp{}, err
		}
		return f, stamp, nil
	}
	return nil, Stamp{}, os.ErrNotExist
}

// rememberedName is a name that was found, or was not, and when the file's names had last changed.
type rememberedName struct {
	Device, File uint64
	CTime        int64
	Name         string `json:",omitempty"`
}

// rememberedNames is what is remembered of the files of one folder.
type rememberedNames struct {
	Folders []string
	Names   []rememberedName
}

// Others says of each file of the tree that has a name outside of it what that is, as far as it is in
// one of the folders. root names the tree's folder; what is remembered of it holds as long as the
// system's time of change does, which moves with every name that comes or goes.
func (c *Cache) Others(ctx context.Context, root string, t *Tree, n *Names) error {
	here := make(map[file]int)
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Names > 1 {
			here[file{e.Stamp.Dev, e.Stamp.Ino}]++
		}
	}
	if len(here) == 0 {
		return nil
	}
	was, err := c.names(ctx, root)
	if err != nil {
		return err
	}
	remembered := make(map[file]rememberedName, len(was.Names))
	if slices.Equal(was.Folders, n.Folders) {
		for _, r := range was.Names {
			remembered[file{r.Device, r.File}] = r
		}
	}
	is := rememberedNames{Folders: n.Folders}
	changed := false
	for i := range t.Entries {
		e := &t.Entries[i]
		f := file{e.Stamp.Dev, e.Stamp.Ino}
		if e.Names <= 1 || e.Names <= here[f] {
			continue
		}
		e.Other = manifest.Other{Device: f.Device, File: f.File}
		r, known := remembered[f]
		if !known || r.CTime != e.Stamp.CTime || e.Stamp.CTime == 0 {
			changed = true
			r = rememberedName{Device: f.Device, File: f.File, CTime: e.Stamp.CTime}
			if r.Name, err = n.Of(ctx, e.Other); err != nil {
				return err
			}
			remembered[f] = r
		}
		e.Other.Name = r.Name
		if r.Name != "" || !n.lacking {
			is.Names = append(is.Names, r)
		}
	}
	if !changed && len(is.Names) == len(was.Names) {
		return nil
	}
	blob, err := json.Marshal(is)
	if err != nil {
		return err
	}
	return c.exec(ctx, `INSERT OR REPLACE INTO other (root, names) VALUES (?, ?)`, root, blob)
}

func (c *Cache) names(ctx context.Context, root string) (rememberedNames, error) {
	var was rememberedNames
	blob, err := c.one(ctx, `SELECT names FROM other WHERE root = ?`, root)
	if err == nil && blob != nil && json.Unmarshal(blob, &was) != nil {
		was = rememberedNames{}
	}
	return was, err
}

// Outside counts the files that have names outside of the tree, and those of which one is known;
// folder is the one in which most of these are.
func (t *Tree) Outside(folders []string) (all, known int, folder string) {
	in := make(map[string]int)
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Other.IsZero() {
			continue
		}
		all++
		if e.Other.Name == "" {
			continue
		}
		known++
		for _, dir := range folders {
			if strings.HasPrefix(e.Other.Name, dir+string(filepath.Separator)) {
				in[dir]++
				break
			}
		}
	}
	for _, dir := range folders {
		if in[dir] > in[folder] {
			folder = dir
		}
	}
	return all, known, folder
}
