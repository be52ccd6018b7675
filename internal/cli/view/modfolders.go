package view

import "morvant/internal/lane/status"

// ModFolderJSON is how the files of one folder of mods compare, in numbers.
type ModFolderJSON struct {
	Folder string `json:"folder"`
	State  string `json:"state"` // same, differs, only_from, only_to
	From   int    `json:"only_from"`
	To     int    `json:"only_to"`
	Differ int    `json:"differ"`
	Same   int    `json:"same"`
}

func modState(f *status.ModFolder) string {
	switch {
	case f.Alike():
		return "same"
	case f.Differ+f.Same+f.To == 0:
		return "only_from"
	case f.Differ+f.Same+f.From == 0:
		return "only_to"
	}
	return "differs"
}

// ToModFolders makes the documents of folders of mods.
func ToModFolders(list []*status.ModFolder) []ModFolderJSON {
	var out []ModFolderJSON
	for _, f := range list {
		out = append(out, ModFolderJSON{f.Path, modState(f), f.From, f.To, f.Differ, f.Same})
	}
	return out
}

// ModFolderColumns are those of ModFolderRows.
func ModFolderColumns() []Column {
	return []Column{{Head: "Mods", Cut: CutStart}, {Head: ""}, {Head: "Files", Cut: CutEnd, Least: 24}}
}

// ModFolderRows lists the folders of mods that differ; all lists the others, too.
func ModFolderRows(list []*status.ModFolder, from, to string, all bool) [][]string {
	var rows [][]string
	for _, f := range list {
		var row []string
		switch modState(f) {
		case "same":
			if !all {
				continue
			}
			row = []string{f.Path, "the same", Count(f.Same, "file")}
		case "only_from":
			row = []string{f.Path, Paint(Bad, "only in "+from), Count(f.From, "file")}
		case "only_to":
			row = []string{f.Path, Paint(Good, "only in "+to), Count(f.To, "file")}
		default:
			text := ""
			for _, part := range []struct {
				n    int
				word string
			}{{f.Differ, " differ"}, {f.From, " only in " + from}, {f.To, " only in " + to}, {f.Same, " the same"}} {
				if part.n > 0 {
					if text != "" {
						text += ", "
					}
					text += Comma(part.n) + part.word
				}
			}
			row = []string{f.Path, Paint(Fresh, "differs"), text}
		}
		rows = append(rows, row)
	}
	return rows
}

// ModsAlike counts the folders of mods that are the same on both sides.
func ModsAlike(list []*status.ModFolder) int {
	n := 0
	for _, f := range list {
		if f.Alike() {
			n++
		}
	}
	return n
}
