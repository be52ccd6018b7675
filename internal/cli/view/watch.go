package view

import (
	"fmt"
	"strings"
	"time"

	"morvant/internal/lane/status"
	"morvant/internal/plan"
	"morvant/internal/watch"
)

// EventJSON is the document of an event of watch.
type EventJSON struct {
	Schema  string      `json:"schema"`
	Time    time.Time   `json:"time"`
	Game    string      `json:"game"`
	Build   string      `json:"build,omitempty"`
	Drifted bool        `json:"drifted"`
	Files   int         `json:"files"`  // that differ
	Unread  int         `json:"unread"` // files that may differ: touched and not read since
	Update  *updateJSON `json:"update,omitempty"`
	Block   []BlockJSON `json:"block"`
	Message string      `json:"message"`
	Mended  bool        `json:"mended"`
	// AtWork says who is writing to the lane, so that nothing is brought back yet.
	AtWork []string `json:"at_work,omitempty"`
	// Left are files that come back again and again, and are left alone.
	Left []string `json:"left,omitempty"`
	// Kept is the update that they are of, where something of it was brought back so that it is there as a whole.
	Kept string `json:"kept,omitempty"`
	// Stayed are files that have come and that nobody knows.
	Stayed []string `json:"stayed,omitempty"`
	// Gone are files of the player's that somebody else has taken away.
	Gone []GoneJSON `json:"gone,omitempty"`
}

// ToEventJSON makes it.
func ToEventJSON(e watch.Event, message string) EventJSON {
	s := e.Status
	j := EventJSON{Schema: "morvant-event/1", Time: e.Time, Game: s.Game.Name, Drifted: s.Drift != nil && s.Drift.Any(), Block: ToBlockJSON(s.Block), Message: message, Gone: ToGone(s.Gone)}
	if s.Build != nil {
		j.Build = s.Build.Label
	}
	if d := ToDrift(s.Drift); d != nil {
		j.Files, j.Unread, j.Update = len(d.Altered)+len(d.Missing), len(d.Unread), d.Update
	}
	if m := e.Mending; m != nil {
		j.Mended, j.AtWork, j.Left, j.Kept = m.Done, m.AtWork, m.Left, m.Kept
		for _, f := range m.Stayed {
			j.Stayed = append(j.Stayed, f.Path)
		}
	}
	return j
}

// DescribeMending says, at the end of a sentence, what came of bringing a lane back.
func DescribeMending(s *status.Status, m *watch.Mending, once bool) string {
	if m == nil {
		return ""
	}
	again := "; Morvant tries again"
	if once {
		again = ""
	}
	text := ""
	switch {
	case len(m.AtWork) > 0:
		text = "; an update is arriving: " + strings.Join(m.AtWork, ", ")
		if !once {
			text += "; Morvant restores the build afterwards"
		}
	case m.Err != nil:
		text = "; it could not be restored: " + OneLine(m.Err) + again
	case m.Done:
		text = "; restored to " + s.Build.Label
	}
	if n := len(m.Stayed); n > 0 {
		text += fmt.Sprintf("; %s nobody knows %s (%s)", Count(n, "file")+" that", stays(n), ListPaths(m.Stayed, 3))
	}
	if len(m.Left) == 0 && !m.LeftBlock {
		return text
	}
	by := ""
	if m.By != "" {
		by = " while " + m.By + " runs"
	}
	what, left := "the block is broken", "is left as it is"
	switch n := len(m.Left); {
	case n == 1:
		what = m.Left[0] + " came back"
	case n > 1:
		what, left = fmt.Sprintf("%s came back", Count(n, "file")), "are left as they are"
	}
	whole := ""
	if m.Kept != "" {
		whole = ", the update as a whole (" + m.Kept + ")"
	}
	return text + fmt.Sprintf("; %s for the third time within the hour%s, and %s now%s. What helps: a block rule for this launcher (morvant block presets), or to take the update (morvant let-update)", what, by, left, whole)
}

func stays(n int) string {
	if n == 1 {
		return "stays"
	}
	return "stay"
}

// ListPaths lists the first few.
func ListPaths(list []plan.Entry, most int) string {
	var names []string
	for _, e := range list[:min(most, len(list))] {
		names = append(names, e.Path)
	}
	text := strings.Join(names, ", ")
	if n := len(list) - len(names); n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return text
}
