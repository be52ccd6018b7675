package record

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/status"
	"morvant/internal/plan"
)

func (a commands) statusCommand() *cli.Command {
	return &cli.Command{
		Name: "status", Usage: "how the game stands: build, drift, last change", Category: app.GroupRecord,
		Description: "Example: morvant status\n\nExit code 3 means that the folder differs from the build that it is held at, or that files were touched\nthat are too large to read in passing.\n" +
			"First it names files of yours that something has removed, until they are back or you use --seen.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "seen", Usage: "the files named as gone are gone on purpose: stop naming them"}},
		Action: a.OnLane(app.Looking, 0, 0, func(ctx context.Context, c *cli.Command, l *lane.Lane, _ []string) error {
			if c.Bool("seen") {
				if err := errors.Join(l.Home.Player.ForgetGone(ctx, l.Game.Name, l.Name), backup.SeenGone(ctx, l)); err != nil {
					return err
				}
			}
			s, err := status.Of(ctx, l, status.Glance)
			if err != nil {
				return err
			}
			if err := a.showStatus(c, s); err != nil {
				return err
			}
			if s.Drift != nil && s.Drift.Any() || !s.Sure() {
				return app.ErrDifferent
			}
			return nil
		}),
	}
}

func (a commands) showStatus(c *cli.Command, s *status.Status) error {
	if c.Bool("json") {
		return a.Emit(view.ToStatusJSON(s))
	}
	if gone := view.NoSavesLine(s.NoSaves); gone != "" {
		a.Say("%s", view.Paint(view.Bad, gone))
	}
	if gone := view.GoneLine(s); gone != "" {
		a.Say("%s", view.Paint(view.Bad, gone))
	}
	a.Say("%s", view.Headline(s))
	last := ""
	if s.Last != nil {
		last = fmt.Sprintf("%s, %s", lane.Describe(s.Last), view.Day(s.Last.Made))
	}
	held, doubt, how := "", "", ""
	if s.Build != nil {
		if c.Bool("verbose") {
			how = view.Established(s.Build.Established())
		}
		held = fmt.Sprintf("%s since %s", s.Build.Label, view.Day(s.Pin.Since))
		if s.Build.Doubt != "" {
			doubt = s.Build.Doubt + "; if it is complete: morvant builds whole " + view.Quoted(s.Build.Label)
		}
		if s.Build.Note != "" {
			held += "  (" + s.Build.Note + ")"
		}
	}
	running := ""
	if s.Running {
		running = "yes; close it before anything is changed"
	}
	says := ""
	if s.Says != "" {
		says = fmt.Sprintf("version %s (%s)", s.Says, s.SaysBy.Source)
	}
	a.Say("%s", view.Fields(append([]string{"lane", view.LaneLine(s), view.FolderWord(s), s.Dir, "holds", view.Count(s.Files, "file") + ", " + view.Size(s.Bytes),
		"held at", held, "incomplete?", doubt, "known by", how, "builds known", fmt.Sprint(s.Builds), "last change", last, "updates", view.BlockLine(s), "waiting", view.WaitingLine(s), "tied to", view.TiedLine(s), "reports", says, "running", running, "links out", view.LinksLine(s.Links), "hard links", view.HardLinksLine(s), "doubled", view.DoublesLine(s.Doubles, s.Game.IgnoreCase)},
		view.AdditionLines(s.Pin)...)...))
	for _, what := range s.HalfDone {
		a.Say("\n%s was interrupted; the same command goes on with it.", view.Paint(view.Bad, what))
	}
	a.noteRestless(s.Restless)
	a.NoteOdd(s.Odd)
	if s.Drift != nil {
		a.showDrift(c, s.Drift)
		if s.Drift.Any() {
			a.Say("\nSee it: morvant diff %s    Mend it: morvant verify --repair", view.Quoted(s.Build.Label))
		}
	}
	return nil
}

// noteRestless tells of large files that keep changing, with the line that ends it.
func (a commands) noteRestless(list []*compose.Restless) {
	for i, r := range list {
		if i == view.Few {
			a.Note("Note: so %s more.", view.CountAre(len(list)-i, "large file"))
			return
		}
		a.Note("Note: %s (%s) has changed since the last look, and no known build has it. If nobody needs it: morvant game set --scratch %s", r.Path, view.Size(r.Bytes), view.Quoted(r.Rule))
	}
}

// showDrift lists what differs, the biggest first.
func (a commands) showDrift(c *cli.Command, d *status.Drift) {
	a.Say("\n  %s as built, %s altered, %s missing, %s extra, %s kept", view.Comma(d.AsBuilt), view.Comma(len(d.Altered)), view.Comma(len(d.Missing)), view.Comma(len(d.Extra)), view.Comma(d.Kept))
	if n := d.Yielded; n > 0 {
		a.Say("  %s of the build under keep or scratch rules: not checked.", view.Count(n, "file"))
	}
	if over := status.LeftOvers(d.Ground, d.Extra); len(over) > 0 {
		a.Say("  %s; morvant pin --left-overs removes what is not surely the game's, too.", view.LeftOvers(over))
	}
	if n := d.LeftOut; n > 0 {
		a.Say("  %s of the build (%s)%s left out by the pin.", view.Count(n, "file"), view.Size(d.LeftOutBytes), view.AreIs(n))
	}
	if u := d.Update; u != nil {
		how := view.FirstNonEmpty(view.Incomplete(u), "all of it")
		a.Say("  This looks like an update to %s (%s), %s.", view.Strong(u.Build.Label), u.Build.Line(), how)
	}
	var rows [][]string
	for _, group := range []struct {
		word string
		list []plan.Entry
	}{{view.Paint(view.Bad, "guarded, gone"), d.Lost}, {view.Paint(view.Bad, "guarded, altered"), d.Harmed}, {view.Paint(view.Bad, "altered"), d.Altered}, {view.Paint(view.Bad, "missing"), d.Missing}, {view.Paint(view.Bad, "cannot be run"), d.Unrunnable}, {view.Paint(view.Bad, "back"), d.Back}, {view.Paint(view.Fresh, "extra"), d.Extra}, {"mods changed", d.ModsChanged}, {"unread", d.Unread}} {
		rows = append(rows, view.FileRows(group.word, group.list, c.Bool("verbose"))...)
	}
	if c.Bool("verbose") {
		rows = append(rows, view.FileRows("time", d.Retimed, true)...)
	}
	if len(rows) > 0 {
		a.Say("")
		a.Table(view.FileColumns("State"), rows)
	}
	for _, name := range slices.Sorted(maps.Keys(d.OfMods)) {
		n := d.OfMods[name]
		a.Say("  %s of them%s of the mods %s; to take the change in: morvant mods record %s --again", view.Comma(n), view.AreIs(n), name, view.Quoted(name))
	}
	if n := len(d.ModsChanged); n > 0 {
		a.Say("  Mods changed: %s, at the other name that your mod program has for %s. A snapshot takes that in; a pin puts back what was recorded.",
			view.Count(n, "file"), view.Them(n))
	}
	if n := len(d.Retimed); n > 0 {
		a.Say("  Only the time differs of %s: morvant verify --repair sets it.", view.Count(n, "file"))
	}
	if !d.Sure() {
		a.Say("morvant verify reads what is unread.")
	}
}
