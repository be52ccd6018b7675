package view

import (
	"fmt"
	"strings"

	"morvant/internal/lane/status"
	"morvant/internal/manifest"
)

type changedJSON struct {
	Path     string `json:"path"`
	Bytes    int64  `json:"bytes"`
	OldBytes int64  `json:"old_bytes"`
}

type movedJSON struct {
	From  string `json:"from"`
	To    string `json:"to"`
	Bytes int64  `json:"bytes"`
}

type linkJSON struct {
	Path string `json:"path"`
	Old  string `json:"old,omitempty"`
	New  string `json:"new,omitempty"`
}

type changesJSON struct {
	Changed     []changedJSON `json:"changed"`
	Added       []fileJSON    `json:"added"`
	Removed     []fileJSON    `json:"removed"`
	Moved       []movedJSON   `json:"moved"`
	Links       []linkJSON    `json:"links"`
	DirsAdded   []string      `json:"dirs_added"`
	DirsRemoved []string      `json:"dirs_removed"`
	Same        int           `json:"same"`
	NewBytes    int64         `json:"new_bytes"`
}

type diffJSON struct {
	Schema string      `json:"schema"`
	Game   string      `json:"game"`
	From   string      `json:"from"`
	To     string      `json:"to"`
	Build  changesJSON `json:"build"`
	Kept   changesJSON `json:"kept"`
	// Mods are the player's own files by folder; OnlyMods says that nothing else was compared.
	Mods     []ModFolderJSON `json:"mods,omitempty"`
	OnlyMods bool            `json:"only_mods,omitempty"`
	// Fetch is what would have to be fetched for all of To, if that is known.
	Fetch *int64 `json:"fetch_bytes,omitempty"`
}

// ToDiffJSON makes the document of a comparison.
func ToDiffJSON(name string, d *status.Difference) diffJSON {
	return diffJSON{Schema: "morvant-diff/1", Game: name, From: d.From.Label, To: d.To.Label, Build: toChanges(d.Build), Kept: toChanges(d.Kept), Mods: ToModFolders(d.Mods), OnlyMods: d.OnlyMods}
}

func toChanges(c *manifest.Changes) changesJSON {
	j := changesJSON{
		Changed: []changedJSON{}, Added: []fileJSON{}, Removed: []fileJSON{}, Moved: []movedJSON{}, Links: []linkJSON{},
		DirsAdded: append([]string{}, c.DirsAdded...), DirsRemoved: append([]string{}, c.DirsGone...), Same: c.Same, NewBytes: c.BytesIn(),
	}
	for _, f := range c.Changed {
		j.Changed = append(j.Changed, changedJSON{f.Path, f.New.Size, f.Old.Size})
	}
	for _, f := range c.Added {
		j.Added = append(j.Added, fileJSON{f.Path, f.Size})
	}
	for _, f := range c.Removed {
		j.Removed = append(j.Removed, fileJSON{f.Path, f.Size})
	}
	for _, m := range c.Moved {
		j.Moved = append(j.Moved, movedJSON{m.From.Path, m.To.Path, m.To.Size})
	}
	for _, l := range c.Links {
		j.Links = append(j.Links, linkJSON{l.Path, l.Old, l.New})
	}
	return j
}

// DiffRows lists changes by kind, the biggest first, and of each kind a few unless
// all are wanted.
func DiffRows(c *manifest.Changes, all bool) [][]string {
	var rows [][]string
	section := func(word string, n int, row func(i int) (size, path string)) {
		for i := range n {
			if i == Few && !all {
				rows = append(rows, []string{word, "", Faint(fmt.Sprintf("and %s more; --all lists them", Comma(n-Few)))})
				return
			}
			s, p := row(i)
			rows = append(rows, []string{word, s, p})
		}
	}
	section(Paint(Fresh, "changed"), len(c.Changed), func(i int) (string, string) {
		f := c.Changed[i]
		was, is := Size(f.Old.Size), Size(f.New.Size)
		if was != is {
			is = was + " → " + is
		}
		return is, f.Path
	})
	section(Paint(Good, "added"), len(c.Added), func(i int) (string, string) { return Size(c.Added[i].Size), c.Added[i].Path })
	section(Paint(Bad, "removed"), len(c.Removed), func(i int) (string, string) { return Size(c.Removed[i].Size), c.Removed[i].Path })
	section("moved", len(c.Moved), func(i int) (string, string) {
		m := c.Moved[i]
		return Size(m.To.Size), m.From.Path + " → " + m.To.Path
	})
	section("link", len(c.Links), func(i int) (string, string) {
		l := c.Links[i]
		return "", fmt.Sprintf("%s: %s → %s", l.Path, orNone(l.Old), orNone(l.New))
	})
	section(Paint(Good, "new folder"), len(c.DirsAdded), func(i int) (string, string) { return "", c.DirsAdded[i] })
	section(Paint(Bad, "folder gone"), len(c.DirsGone), func(i int) (string, string) { return "", c.DirsGone[i] })
	return rows
}

// PaintLine colours a line of a text comparison.
func PaintLine(line string) string {
	text := strings.TrimSuffix(line, "\n")
	switch {
	case strings.HasPrefix(text, "+"):
		text = Paint(Good, text)
	case strings.HasPrefix(text, "-"):
		text = Paint(Bad, text)
	case strings.HasPrefix(text, "@@"):
		text = Faint(text)
	}
	return text + "\n"
}
