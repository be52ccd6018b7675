package compose

import "morvant/internal/scan"

// ModsChanged lists the files that are one with a file of a folder that mods are linked from, as they
// were when the build was recorded, and that were changed there.
func (c *Composed) ModsChanged(t *scan.Tree) map[string]bool {
	var list map[string]bool
	for p, was := range c.Attributes.Others {
		f, wanted := c.Manifest.File(p)
		e := t.Entry(p)
		if !wanted || e == nil || !e.Known || e.Digest == f.Digest || e.Other.Name == "" || was.Name != "" && was.Name != e.Other.Name {
			continue
		}
		if list == nil {
			list = make(map[string]bool)
		}
		list[e.Path] = true
	}
	return list
}
