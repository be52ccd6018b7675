package view

import (
	"fmt"

	"morvant/internal/block"
)

// BlockJSON is how a rule of a block stands, in documents.
type BlockJSON struct {
	Kind  string `json:"kind"`
	On    string `json:"on,omitempty"`
	Holds bool   `json:"holds"`
	Broke string `json:"broke,omitempty"`
	Left  int    `json:"left_alone,omitempty"` // files with other names elsewhere
}

// ToBlockJSON makes the document of a block.
func ToBlockJSON(list []block.State) []BlockJSON {
	out := []BlockJSON{}
	for _, s := range list {
		out = append(out, BlockJSON{s.Rule.Kind, s.Rule.File + s.Rule.Path, s.Holds, s.Broke, s.Left})
	}
	return out
}

// BlockLine sums up the block for status.
func BlockLine(states []block.State) string {
	broken := 0
	for _, s := range states {
		if !s.Holds {
			broken++
		}
	}
	switch {
	case len(states) == 0:
		return ""
	case broken == 0:
		return Paint(Good, "blocked") + fmt.Sprintf(" (%s)", Count(len(states), "rule"))
	case broken == len(states):
		return Paint(Bad, "not blocked") + "; set it with morvant block"
	}
	return Paint(Bad, fmt.Sprintf("%d of %s broken", broken, Count(len(states), "block rule"))) + "; see morvant block --show"
}
