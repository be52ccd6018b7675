package proposal

import (
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/feed/fetch"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// ShowPlan shows what a proposal does, as a table, with what the player should know beside it.
func ShowPlan(a *app.App, c *cli.Command, l *lane.Lane, p *change.Proposal) {
	what := lane.Describe(&p.Change)
	for _, text := range p.Notes {
		a.Note("Note: %s.", text)
	}
	if p.Plan.Empty() {
		a.Say("%s of %s changes no file.", what, view.Strong(l.Title()))
		showAdditions(a, p)
		showLeft(a, c, p)
		showSteps(a, l, p)
		return
	}
	t := p.Plan.Totals()
	a.Say("%s of %s:", what, view.Strong(l.Title()))
	a.Say("  %s replaced, %s added, %s removed, %s moved, %s the same; %s to write%s",
		view.Comma(t.Replaced), view.Comma(t.Added), view.Comma(t.Removed), view.Comma(t.Moved), view.Comma(p.Plan.Same), view.Size(t.Write), view.FreeSpace(l))
	// Folders go without saying where files come or go with them.
	if t.Made > t.Added+t.Moved || t.Unmade > t.Removed+t.Moved {
		a.Say("  %s made, %s removed", view.Count(t.Made, "folder"), view.Comma(t.Unmade))
	}
	if p.Shared > 0 {
		a.Say("  %s of that is shared with another lane and takes no space", view.Size(p.Shared))
	}
	if n := p.LinkedAgain; n > 0 {
		a.Say("  %s made again, to where mods are linked from; %s no space", view.Count(n, "hard link"), view.Takes(n))
	}
	if n := p.Copies; n > 0 {
		a.Say("  %s", view.BecomeCopies(n, len(l.Game.ModsFrom) > 0))
	}
	if t.Retimed > 0 {
		a.Say("  %s the right date or mode", view.Gets(t.Retimed))
	}
	ShowChoice(a, p.Choice)
	showAdditions(a, p)
	for _, f := range p.Fetches {
		ShowFetchPlan(a, f.Plan, l.Store.Dir())
	}
	moved := make(map[string]bool)
	for i := range p.Plan.Steps {
		moved[p.Plan.Steps[i].From] = true
	}
	if rows := view.PlanRows(p.Plan, moved, c.Bool("verbose")); len(rows) > 0 {
		a.Say("")
		a.Table(view.FileColumns("Action"), rows)
		a.Say("")
	}
	showLeft(a, c, p)
	showSteps(a, l, p)
}

// showAdditions tells what a pin has beside its build.
func showAdditions(a *app.App, p *change.Proposal) {
	if p.Change.What != state.ChangePin {
		return
	}
	lines := view.AdditionLines(p.Change.After)
	for i := 0; i < len(lines); i += 2 {
		if lines[i+1] != "" {
			text := lines[i+1]
			if lines[i] == view.LeavesOut {
				text += view.Faint(" (" + view.Count(p.LeftOut, "file") + " of the build)")
			}
			a.Say("  %s: %s", lines[i], text)
		}
	}
}

// showSteps tells which commands of the player's run after a pin.
func showSteps(a *app.App, l *lane.Lane, p *change.Proposal) {
	if p.Change.What != state.ChangePin {
		return
	}
	for _, line := range l.Game.AfterPin {
		a.Say("  then runs: %s", line)
	}
	if l.Game.ConvertSaves != "" {
		a.Say("  then converts a copy of the saves: %s", l.Game.ConvertSaves)
	}
	showGuards(a, l, p)
}

// showGuards tells what a pin that begins a hold will block, and once what it has nothing to do with: updates that nothing keeps
// away, saves that nobody knows.
func showGuards(a *app.App, l *lane.Lane, p *change.Proposal) {
	before, after := p.Change.Before, p.Change.After
	begins := !before.Held()
	if l.Live && !after.Open && (begins || before.Open) {
		for _, r := range l.Game.Block {
			a.Say("  keeps updates away: %s", r.Describe())
		}
	}
	if l.Live && begins && !after.Open && len(l.Game.Block) == 0 {
		a.Say("  %s", view.Faint("no block is set, so the launcher may update it at any time (morvant block presets lists what helps)"))
	}
	if begins && len(l.Game.Saves) == 0 {
		a.Say("  %s", view.Faint("no saves are known, so none are backed up (morvant game set --saves FOLDER)"))
	}
}

// showLeft tells what a plan leaves alone.
func showLeft(a *app.App, c *cli.Command, p *change.Proposal) {
	if p.Plan.Kept > 0 {
		a.Say("  %s of yours %s (keep rules)", view.Count(p.Plan.Kept, "file"), view.Stay(p.Plan.Kept))
	}
	if n := p.Yielded; n > 0 {
		a.Say("  %s of the build %s too: keep or scratch rules cover %s", view.Count(n, "file"), view.Stay(n), view.Them(n))
	}
	for _, o := range p.Taken {
		a.Say("  removed as left over from %[2]s: %[1]s (%[3]s): %[4]s", view.Count(len(o.Files), "file"), o.Build.Label, view.Size(o.Bytes()), view.Names(o.Files, view.Few))
	}
	for _, o := range p.LeftOvers {
		a.Say("  %s left over from %s (%s); --left-overs removes %s: %s", view.Count(len(o.Files), "file"), o.Build.Label, view.Size(o.Bytes()), view.Them(len(o.Files)), view.Names(o.Files, view.Few))
	}
	if n := len(p.Plan.Extra); n > 0 {
		a.Say("  %s not of this build; --clean would remove %s:", view.Count(n, "file"), view.Them(n))
		for i, e := range p.Plan.Extra {
			if i == view.Few && !c.Bool("verbose") {
				a.Say("    %s", view.Faint(fmt.Sprintf("and %s more; --verbose lists all", view.Comma(n-view.Few))))
				break
			}
			a.Say("    %s  %s", e.Path, view.Faint(view.Size(e.Size)))
		}
	}
	a.NoteOdd(p.Odd)
}

// ShowChoice says which components a build is taken with.
func ShowChoice(a *app.App, ch *compose.Choice) {
	if ch == nil || len(ch.Names) == 0 {
		return
	}
	text := strings.Join(ch.Names, ", ")
	if ch.Found {
		text += view.Faint(" (what the folder has)")
	}
	if len(ch.Others) > 0 {
		text += view.Faint("; without " + strings.Join(ch.Others, ", ") + " (--component NAME adds one)")
	}
	a.Say("  components: %s", text)
}

// ShowFetchPlan says what comes over the line.
func ShowFetchPlan(a *app.App, p *fetch.Plan, storeDir string) {
	if p.Empty() {
		return
	}
	found := ""
	if p.Found > 0 {
		found = fmt.Sprintf("; %s found in files here", view.Size(p.Found))
	}
	room := ""
	if free, err := volume.Free(storeDir); err == nil {
		room = fmt.Sprintf(", its disk has %s free", view.Size(free))
	}
	a.Say("  to fetch: %s from %s, for %s of %s%s", view.Strong(view.Size(p.Fetch)), p.Feed.Name, view.Count(p.Files, "file"), view.Size(p.Bytes), found)
	if p.Fetch > p.Wanted {
		a.Say("  only %s of that is wanted: the server sends whole files only", view.Size(p.Wanted))
	}
	if p.Weak > 0 {
		a.Say("  %s told by md5 alone, which can be forged: whoever sends it could send something else", view.CountAre(p.Weak, "file"))
	}
	if p.Unchecked > 0 {
		a.Say("  %s told by no digest at all: damage on the way goes unnoticed", view.CountAre(p.Unchecked, "file"))
	}
	a.Say("  the store grows by at most %s%s", view.Size(p.Grow), room)
}
