package record

import (
	"fmt"
	"strings"

	"morvant/internal/cli/view"
	"morvant/internal/lane"
	"morvant/internal/lane/why"
	"morvant/internal/layers"
)

// whyJSON explains one file, in documents.
type whyJSON struct {
	Path  string `json:"path"`
	There bool   `json:"there"`
	Bytes int64  `json:"bytes"`
	Owner string `json:"owner"`
	Why   string `json:"why"`
	// Layers are about the path, the one that counts first.
	Layers []whyLayerJSON `json:"layers"`
	// Builds have exactly these bytes there.
	Builds     []string `json:"builds"`
	LastChange int64    `json:"last_change,omitempty"` // its number in the history
}

// whyLayerJSON is one layer at a path.
type whyLayerJSON struct {
	Kind    string `json:"kind"`
	Name    string `json:"name"`
	Nothing bool   `json:"nothing,omitempty"` // it wants nothing there
	Bytes   int64  `json:"bytes"`
}

// toWhyJSON makes it.
func toWhyJSON(f *why.File) whyJSON {
	j := whyJSON{Path: f.Path, There: f.Here.Kind != "", Bytes: f.Here.Size, Owner: string(f.Owner.Whose), Why: f.Owner.Why, Layers: []whyLayerJSON{}, Builds: []string{}}
	for _, r := range f.Chain {
		j.Layers = append(j.Layers, whyLayerJSON{string(r.Kind), r.By, r.Node.Kind == "", r.Node.Size})
	}
	for _, b := range f.Builds {
		j.Builds = append(j.Builds, b.Name())
	}
	if f.Last != nil {
		j.LastChange = f.Last.ID
	}
	return j
}

// whyLines explains one file.
func whyLines(f *why.File) []string {
	here := "not there"
	if f.Here.Kind != "" {
		here = view.Size(f.Here.Size)
	}
	lines := []string{fmt.Sprintf("%s, %s: %s", view.Strong(f.Path), here, whose(f))}
	add := func(name, text string) {
		if text != "" {
			lines = append(lines, fmt.Sprintf("  %-15s %s", name, text))
		}
	}
	if len(f.Chain) > 0 {
		add("wanted there", wants(f.Chain[0]))
	}
	for i, r := range f.Chain[min(1, len(f.Chain)):] {
		name := "without that"
		if i > 0 {
			name = "and beneath"
		}
		add(name, wants(r))
	}
	var names []string
	for i, b := range f.Builds {
		if i == view.Few {
			names = append(names, fmt.Sprintf("%d more", len(f.Builds)-i))
			break
		}
		names = append(names, b.Name())
	}
	add("exactly so in", strings.Join(names, ", "))
	if f.Last != nil {
		add("last changed", fmt.Sprintf("%s, by change %d (%s)", view.Day(f.Last.Made), f.Last.ID, lane.LowerFirst(lane.Describe(f.Last))))
	}
	return lines
}

func whose(f *why.File) string {
	switch f.Owner.Whose {
	case layers.Layers:
		return "the game's: " + f.Owner.Why
	case layers.Player:
		return "yours: " + f.Owner.Why
	case layers.LeftOver:
		return "left over: " + f.Owner.Why
	case layers.Nobody:
		return "nobody's: " + f.Owner.Why
	}
	return "nobody can say: " + f.Owner.Why
}

func wants(r why.Reason) string {
	if r.Node.Kind == "" {
		return "nothing, by " + r.By
	}
	return fmt.Sprintf("%s, by %s", view.Size(r.Node.Size), r.By)
}
