package view

import (
	"fmt"
	"time"

	"morvant/internal/lane"
	"morvant/internal/state"
)

type historyItem struct {
	ID     int64            `json:"id"`
	Date   time.Time        `json:"date"`
	What   state.ChangeKind `json:"what"`
	Build  string           `json:"build,omitempty"`
	Undoes int64            `json:"undoes,omitempty"`
	Undone int64            `json:"undone_by,omitempty"`
	Totals state.Totals     `json:"totals"`
	Notes  string           `json:"notes,omitempty"`
}

// ToHistoryJSON makes the document of history.
func ToHistoryJSON(name string, list []*state.Change) any {
	items := []historyItem{}
	for _, h := range list {
		items = append(items, historyItem{h.ID, h.Made, h.What, h.Build, h.Undoes, h.Undone, h.Totals, h.Notes})
	}
	return struct {
		Schema  string        `json:"schema"`
		Game    string        `json:"game"`
		Changes []historyItem `json:"changes"`
	}{"morvant-history/1", name, items}
}

// Change names a change, and says how often it was made one time like the other.
func Change(c *state.Change) string {
	if c.Totals.Times > 1 {
		return fmt.Sprintf("%s, %d times", lane.Describe(c), c.Totals.Times)
	}
	return lane.Describe(c)
}
