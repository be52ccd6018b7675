package view

import (
	"morvant/internal/identify"
)

type componentJSON struct {
	Component string `json:"component"`
	There     bool   `json:"there"`
	Files     int    `json:"files"`
	Same      int    `json:"same"`
}

type matchJSON struct {
	Build      string          `json:"build"`
	Channel    string          `json:"channel"`
	Digest     string          `json:"digest"`
	Exact      bool            `json:"exact"`
	Share      float64         `json:"share"`
	Files      int             `json:"files"`
	Same       int             `json:"same"`
	Altered    []string        `json:"altered"`
	Missing    []string        `json:"missing"`
	Extra      int             `json:"extra"`
	Components []componentJSON `json:"components"`
}

type originJSON struct {
	Build   string   `json:"build"`
	Channel string   `json:"channel"`
	Files   []string `json:"files"`
}

type evidenceJSON struct {
	Source string `json:"source"`
	Says   string `json:"says"`
}

// ToIdentifyJSON makes the document of identify.
func ToIdentifyJSON(name, dir string, found *identify.Answer, says []identify.Evidence) any {
	evidence := []evidenceJSON{}
	for _, e := range says {
		evidence = append(evidence, evidenceJSON{e.Source, e.Says})
	}
	out := []matchJSON{}
	for _, m := range found.Matches {
		j := matchJSON{
			Build: m.Build.Label, Channel: m.Build.Line(), Digest: m.Build.Digest().String(), Exact: m.Exact(), Share: m.Share(),
			Files: m.Files, Same: m.Same, Altered: append([]string{}, m.Altered...), Missing: append([]string{}, m.Missing...), Extra: m.Extra,
			Components: []componentJSON{},
		}
		for _, comp := range m.Components {
			j.Components = append(j.Components, componentJSON{comp.Name, comp.There, comp.Files, comp.Same})
		}
		out = append(out, j)
	}
	origins := []originJSON{}
	for _, o := range found.Origins {
		origins = append(origins, originJSON{o.Build.Label, o.Build.Line(), o.Files})
	}
	return struct {
		Schema  string      `json:"schema"`
		Game    string      `json:"game"`
		Folder  string      `json:"folder"`
		Matches []matchJSON `json:"matches"`
		// Origins are other builds that files are as in.
		Origins []originJSON `json:"origins"`
		// Evidence is what the game itself says.
		Evidence []evidenceJSON `json:"evidence"`
		// Unread counts builds that could not be compared: their distributor has not told their files yet.
		Unread int `json:"unread,omitempty"`
	}{"morvant-identify/1", name, dir, out, origins, evidence, found.Unread}
}

// Doubt says what is odd about a folder or an archive that is to be a build of a game.
func Doubt(d identify.Doubt, game string) string {
	if d.Unlike {
		return "This does not resemble " + game + ": hardly any of its files has a place in a known build or in the game's folder."
	}
	return "Something may be missing: " + Some(d.Lacks, 3) + ", among the largest files of " + d.Of + ", " + map[bool]string{true: "is", false: "are"}[len(d.Lacks) == 1] + " not in it."
}
