package view

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"morvant/internal/strict"

	"github.com/pelletier/go-toml/v2"
)

// AsSet makes rules what they are in the settings: keys and values.
func AsSet[R any](rules []R) []map[string]any {
	var list []map[string]any
	for _, r := range rules {
		text, err := toml.Marshal(r)
		if err != nil {
			continue
		}
		var m map[string]any
		if toml.Unmarshal(strict.Text(text), &m) == nil {
			list = append(list, m)
		}
	}
	return list
}

// RuleLines writes rules for people, one a line.
func RuleLines(rules []map[string]any) string {
	var lines []string
	for _, r := range rules {
		var words []string
		for _, key := range slices.Sorted(maps.Keys(r)) {
			words = append(words, fmt.Sprintf("%s=%v", key, r[key]))
		}
		lines = append(lines, strings.Join(words, "  "))
	}
	return strings.Join(lines, "; ")
}

// GameJSON is a game in documents.
type GameJSON struct {
	Game      string   `json:"game"`
	Title     string   `json:"title,omitempty"`
	Live      string   `json:"live"`
	Program   string   `json:"program,omitempty"`
	Arguments []string `json:"arguments,omitempty"` // what launch starts it with
	Through   string   `json:"through,omitempty"`   // a command that launch starts instead
	With      string   `json:"with,omitempty"`      // the game that it is tied to //   // a command that launch starts instead
	Keep      []string `json:"keep"`
	Guard     []string `json:"guard,omitempty"`
	// IgnoreCase says that names which differ by letter case only are one to the game.
	IgnoreCase bool `json:"ignore_case,omitempty"`
	// OrderByTime says that times which the player has set survive updates.
	OrderByTime bool     `json:"order_by_time,omitempty"`
	ModsFrom    []string `json:"mods_from,omitempty"` // folders outside of the game that mods are linked from
	Scratch     []string `json:"scratch"`
	Settings    string   `json:"settings"`
	Held        bool     `json:"held"`
	// Build is the one that the lane in question is held at.
	Build  *BuildJSON `json:"build,omitempty"`
	Pinned string     `json:"pinned,omitempty"` // its label
	// What else is set.
	Saves        []string         `json:"saves,omitempty"`
	SavesPerLane bool             `json:"saves_per_lane,omitempty"`
	ConvertSaves string           `json:"convert_saves,omitempty"`
	AfterPin     []string         `json:"after_pin,omitempty"`
	Launcher     []string         `json:"launcher,omitempty"`
	Block        []map[string]any `json:"block,omitempty"` // rules, as in the settings
	Version      []map[string]any `json:"version,omitempty"`
	Waiting      []map[string]any `json:"waiting,omitempty"`
	Updating     []map[string]any `json:"updating,omitempty"`
	Builds       int              `json:"builds"`
	// Absent says that the live folder is not there, or its disk.
	Absent bool `json:"absent,omitempty"`
	// Broken says why the game cannot be worked with.
	Broken string `json:"broken,omitempty"`
}

// Held says what the game is held to, for a table.
func (j GameJSON) State() string {
	if j.Absent {
		return "absent"
	}
	if j.Pinned == "" {
		return "not held"
	}
	return "held at " + j.Pinned
}
