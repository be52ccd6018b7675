package view

import (
	"fmt"
	"slices"
	"time"

	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/plan"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// command begins a command line about a lane.
func command(l *lane.Lane) string {
	if l.Live {
		return "morvant"
	}
	return "morvant -l " + Quoted(l.Name)
}

// Outcome says what a change has come to, in one sentence.
func Outcome(l *lane.Lane, p *change.Proposal) string {
	name := Strong(l.Title())
	back := ""
	if !p.Plan.Empty() {
		back = " " + Faint("Take it back: "+command(l)+" undo")
	}
	switch p.Change.What {
	case state.ChangePin:
		return fmt.Sprintf("%s is held at %s.%s", name, Paint(Good, Named(p.Build)), back)
	case state.ChangeRepair:
		return fmt.Sprintf("%s is %s again.%s", name, Paint(Good, Named(p.Build)), back)
	case state.ChangeUndo:
		return fmt.Sprintf("Change %d of %s is taken back. %s", p.Change.Undoes, name, Faint(fmt.Sprintf("Take that back: %s undo %d", command(l), p.Change.ID)))
	}
	if p.Change.What == state.ChangeCarry {
		return Carried(p) + back
	}
	if p.Build != nil {
		return fmt.Sprintf("%s is %s now, and not held.%s", name, Named(p.Build), back)
	}
	return fmt.Sprintf("%s is not held any more.%s", name, back)
}

// Carried says what a carry has brought.
func Carried(p *change.Proposal) string {
	text := fmt.Sprintf("%s brought from %s.", CountWere(p.Brought, "file"), p.Change.Build)
	if p.Brought == 0 {
		text = fmt.Sprintf("Nothing was brought from %s.", p.Change.Build)
	}
	switch p.Stayed {
	case 0:
		return text
	case 1:
		return text + " 1 file differs and stays as it is here."
	}
	return text + fmt.Sprintf(" %s files differ and stay as they are here.", Comma(p.Stayed))
}

type stepJSON struct {
	Path   string `json:"path"`
	Action string `json:"action"`
	Bytes  int64  `json:"bytes,omitempty"`
	From   string `json:"from,omitempty"`
}

type PlanJSON struct {
	Schema   string           `json:"schema"`
	Game     string           `json:"game"`
	Change   int64            `json:"change,omitempty"`
	What     state.ChangeKind `json:"what"`
	Build    string           `json:"build,omitempty"`
	Undoes   int64            `json:"undoes,omitempty"`
	Done     bool             `json:"done"`
	Totals   state.Totals     `json:"totals"`
	Steps    []stepJSON       `json:"steps"`
	Extra    []fileJSON       `json:"extra"`
	Kept     int              `json:"kept"`
	Yielded  int              `json:"left_to_rules"` // files of the build that rules cover
	Same     int              `json:"same"`
	LeftOut  []string         `json:"left_out"`
	Recorded time.Time        `json:"date"`
	// What the pin is to have beside its build.
	Overlays   []state.Overlay   `json:"overlays,omitempty"`
	Companions []state.Companion `json:"companions,omitempty"`
	Edits      []state.Edit      `json:"edits,omitempty"`
	Keep       []string          `json:"keep,omitempty"`
	LeaveOut   []string          `json:"leave_out,omitempty"`
	Follow     bool              `json:"follow,omitempty"` // it goes on with updates
	// Components and Fetch are those of a feed's build.
	Components []string `json:"components,omitempty"`
	Fetch      int64    `json:"fetch_bytes"`
	// LeftOver are files that stay and are just as in other snapshots.
	LeftOver []LeftOverJSON `json:"left_over,omitempty"`
	// Tied is the change of the game that this one is tied to; of several, each has the next one.
	Tied *PlanJSON `json:"tied,omitempty"`
	// Stayed are files that a carry found to differ and left as they are here.
	Stayed int `json:"stayed,omitempty"`
	// Saves is the newest whole backup of the saves that the build wrote, where they are others than those of now.
	Saves int64 `json:"saves_backup,omitempty"`
	// Notes are what the player should know of it, in sentences.
	Notes []string `json:"notes,omitempty"`
	// Linked counts the hard links that are made again, Apart those that become copies.
	Linked int `json:"linked_again,omitempty"`
	Apart  int `json:"become_copies,omitempty"`
}

// ToPlanJSON makes the document of a change; done says that it has been carried out.
func ToPlanJSON(name string, p *change.Proposal, done bool) PlanJSON {
	j := PlanJSON{
		Schema: "morvant-change/1", Game: name, Change: p.Change.ID, What: p.Change.What, Build: p.Change.Build, Undoes: p.Change.Undoes,
		Done: done, Totals: p.Change.Totals, Steps: []stepJSON{}, Extra: toFiles(p.Plan.Extra), Kept: p.Plan.Kept, Yielded: p.Yielded, Same: p.Plan.Same,
		LeftOut: OddPaths(p.Odd), Recorded: p.Change.Made, Stayed: p.Stayed,
		Notes: p.Notes, Linked: p.LinkedAgain, Apart: p.Copies,
	}
	j.LeftOver = ToLeftOvers(p.LeftOvers)
	if p.Choice != nil {
		j.Components = p.Choice.Names
	}
	if pin := p.Change.After; p.Change.What == state.ChangePin {
		j.Overlays, j.Companions, j.Edits, j.Keep, j.LeaveOut, j.Follow = pin.Overlays, pin.Companions, pin.Edits, pin.Keep, pin.LeaveOut, pin.Follow
	}
	for _, f := range p.Fetches {
		j.Fetch += f.Fetch
	}
	for i := range p.Plan.Steps {
		s := &p.Plan.Steps[i]
		step := stepJSON{Path: s.Path, Action: action(s), From: s.From}
		if s.After != nil {
			step.Bytes = s.After.Size
		} else if s.Before != nil {
			step.Bytes = s.Before.Size
		}
		j.Steps = append(j.Steps, step)
	}
	return j
}

// action names what a step does to its path.
func action(s *plan.Step) string {
	switch {
	case s.Places() && s.Displaces():
		return "replace"
	case s.Places() && s.From != "":
		return "move"
	case s.Places():
		return "add"
	case s.Displaces():
		return "remove"
	case s.KeepsContent():
		return "retime"
	case s.After != nil:
		return "make folder"
	}
	return "remove folder"
}

// FreeSpace says how much room there is beside the lane; empty if that is not known.
func FreeSpace(l *lane.Lane) string {
	free, err := volume.Free(l.Dir)
	if err != nil {
		return ""
	}
	return ", " + Size(free) + " free"
}

// PlanRows are the steps of a plan as rows, the biggest first, and the rest counted unless all is wanted.
func PlanRows(p *plan.Plan, moved map[string]bool, all bool) [][]string {
	words := map[string]string{
		"replace": Paint(Fresh, "replace"), "add": Paint(Good, "add"), "remove": Paint(Bad, "remove"), "move": "move",
	}
	var rows [][]string
	for _, kind := range []string{"replace", "add", "remove", "move"} {
		var list []plan.Entry
		for i := range p.Steps {
			s := &p.Steps[i]
			if action(s) != kind || kind == "remove" && moved[s.Path] {
				continue
			}
			e := plan.Entry{Path: s.Path}
			if s.After != nil {
				e.Size = s.After.Size
			} else {
				e.Size = s.Before.Size
			}
			if kind == "move" {
				e.Path = s.From + " → " + s.Path
			}
			list = append(list, e)
		}
		rows = append(rows, FileRows(words[kind], list, all)...)
	}
	return rows
}

// FileRows lists files under one word, the biggest first, and only a few unless
// all are wanted.
func FileRows(word string, list []plan.Entry, all bool) [][]string {
	slices.SortFunc(list, plan.BiggestFirst)
	var rows [][]string
	for i, e := range list {
		if i == Few && !all {
			return append(rows, []string{word, "", Faint(fmt.Sprintf("and %s more; --verbose lists all", Comma(len(list)-Few)))})
		}
		rows = append(rows, []string{word, Size(e.Size), e.Path})
	}
	return rows
}
