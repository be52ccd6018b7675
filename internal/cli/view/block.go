package view

import (
	"fmt"

	"morvant/internal/block"
	"morvant/internal/lane/status"
)

// BlockJSON is how a rule of a block stands, in documents.
type BlockJSON struct {
	Kind  string `json:"kind"`
	On    string `json:"on,omitempty"`
	Holds bool   `json:"holds"`
	Broke string `json:"broke,omitempty"`
	Left  int    `json:"left_alone,omitempty"` // files with other names elsewhere
	Does  string `json:"does"`                 // in words
}

// ToBlockJSON makes the document of a block.
func ToBlockJSON(list []block.State) []BlockJSON {
	out := []BlockJSON{}
	for _, s := range list {
		out = append(out, BlockJSON{s.Rule.Kind, s.Rule.File + s.Rule.Path, s.Holds, s.Broke, s.Left, s.Rule.Describe()})
	}
	return out
}

// BlockLine sums up the block for status.
func BlockLine(s *status.Status) string {
	broken, set := 0, false
	for _, b := range s.Block {
		if !b.Holds {
			broken++
		}
		set = set || b.Broke != block.NotSet
	}
	n := len(s.Block)
	switch {
	case !s.Live: // a block is set once a lane is live
		return ""
	case n == 0 && s.Pin.Open && len(s.Game.Block) > 0:
		return "let in; morvant block blocks them"
	case n == 0:
		return ""
	case broken == 0:
		return Paint(Good, "blocked") + fmt.Sprintf(" (%s)", Count(n, "rule"))
	case !set:
		return Paint(Bad, "not blocked") + "; set it with morvant block"
	}
	return Paint(Bad, fmt.Sprintf("%d of %s broken", broken, Count(n, "block rule"))) + "; see morvant block --show"
}

// Broke says what broke a rule, and what helps where that is another rule; empty if it holds.
func Broke(s block.State) string {
	if s.Prepared == "" {
		return s.Broke
	}
	return fmt.Sprintf("%s: morvant block add staging-folder path=%s holds that too", s.Broke, Quoted(s.Prepared))
}
