package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/status"

	"github.com/urfave/cli/v3"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/plan"
	"morvant/internal/ref"
)

// few is how many files a list shows unless all are asked for.
const few = 8

func (a *app) statusCommand() *cli.Command {
	return &cli.Command{
		Name: "status", Usage: "how the game stands: build, drift, last change", Category: groupRecord,
		Description: "Example: morvant status\n\nExit code 3 says that the folder differs from what it is held to.",
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := arguments(c, 0, 0); err != nil {
				return err
			}
			return a.withLane(ctx, c, func(l *lane.Lane, home *game.Home) error {
				s, err := status.Of(ctx, l)
				if err != nil {
					return err
				}
				if err := a.showStatus(c, s); err != nil {
					return err
				}
				if s.Drift != nil && s.Drift.Any() {
					return errDifferent
				}
				return nil
			})
		},
	}
}

type fileJSON struct {
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
}

func toFiles(list []plan.Entry) []fileJSON {
	out := []fileJSON{}
	for _, e := range list {
		out = append(out, fileJSON{e.Path, e.Size})
	}
	return out
}

type driftJSON struct {
	AsBuilt int        `json:"as_built"`
	Altered []fileJSON `json:"altered"`
	Missing []fileJSON `json:"missing"`
	Extra   []fileJSON `json:"extra"`
	Kept    int        `json:"kept"`
	Yielded int        `json:"left_to_rules"` // files of the build that rules cover: nobody has looked at them
	Unread  []fileJSON `json:"unread"`
	LeftOut []string   `json:"left_out"`
	// Update is the known build that the drift leads to, if it looks like one.
	Update *updateJSON `json:"update,omitempty"`
}

type updateJSON struct {
	Build   string `json:"build"`
	Channel string `json:"channel"`
	Done    int    `json:"done"` // files
	Of      int    `json:"of"`
}

func toDrift(d *status.Drift) *driftJSON {
	if d == nil {
		return nil
	}
	j := &driftJSON{d.AsBuilt, toFiles(d.Altered), toFiles(d.Missing), toFiles(d.Extra), d.Kept, d.Yielded, toFiles(d.Unread), oddPaths(d.Odd), nil}
	if u := d.Update; u != nil {
		j.Update = &updateJSON{u.Build.Label, u.Build.Line(), u.Done, u.Of}
	}
	return j
}

type statusJSON struct {
	Schema  string      `json:"schema"`
	Game    string      `json:"game"`
	Live    string      `json:"live"`
	Lane    string      `json:"lane"`
	Folder  string      `json:"folder"`
	Held    bool        `json:"held"`
	Build   *buildJSON  `json:"build,omitempty"`
	Equals  string      `json:"equals,omitempty"`
	Drifted bool        `json:"drifted"`
	Drift   *driftJSON  `json:"drift,omitempty"`
	Files   int         `json:"files"`
	Bytes   int64       `json:"bytes"`
	Running bool        `json:"running"`
	Block   []blockJSON `json:"block"`
	Looked  time.Time   `json:"looked"`
	// Says is the version that the game itself gives, where its content does not tell.
	Waiting string `json:"waiting,omitempty"` // update that the launcher has
	Says    string `json:"says,omitempty"`
	SaysBy  string `json:"says_by,omitempty"`
	// What the pin has beside its build.
	Overlays   []game.Overlay   `json:"overlays,omitempty"`
	Companions []game.Companion `json:"companions,omitempty"`
	Edits      []game.Edit      `json:"edits,omitempty"`
	Keep       []string         `json:"keep,omitempty"`
}

func (a *app) showStatus(c *cli.Command, s *status.Status) error {
	if c.Bool("json") {
		j := statusJSON{
			Schema: "morvant-status/1", Game: s.Game.Name, Live: s.Game.Live, Lane: s.Lane, Folder: s.Dir, Held: s.Build != nil,
			Drift: toDrift(s.Drift), Drifted: s.Drift != nil && s.Drift.Any(),
			Files: s.Files, Bytes: s.Bytes, Running: s.Running, Block: toBlockJSON(s.Block), Looked: s.Looked,
			Waiting: s.Waiting, Says: s.Says, SaysBy: s.SaysBy.Source, Overlays: s.Pin.Overlays, Companions: s.Pin.Companions, Edits: s.Pin.Edits, Keep: s.Pin.Keep,
		}
		if s.Build != nil {
			b := toBuildJSON(s.Build, s.Pin)
			j.Build = &b
		}
		if s.Equals != nil {
			j.Equals = s.Equals.Label
		}
		return a.emit(j)
	}
	a.say("%s", a.headline(s))
	last := ""
	if s.Last != nil {
		last = fmt.Sprintf("%s, %s", lane.Describe(s.Last), day(s.Last.Made))
	}
	held := ""
	if s.Build != nil {
		held = fmt.Sprintf("%s since %s", s.Build.Label, day(s.Pin.Since))
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
		says = fmt.Sprintf("to be %s (%s)", s.Says, s.SaysBy.Source)
	}
	a.say("%s", fields(append([]string{"lane", laneLine(s), folderWord(s), s.Dir, "holds", count(s.Files, "file") + ", " + size(s.Bytes),
		"held at", held, "builds known", fmt.Sprint(s.Builds), "last change", last, "updates", blockLine(s.Block), "waiting", waitingLine(s), "says", says, "running", running},
		additionLines(s.Pin)...)...))
	a.noteOdd(s.Odd)
	if s.Drift != nil {
		a.showDrift(c, s.Drift)
		if s.Drift.Any() {
			a.say("\nSee it: morvant diff %s    Mend it: morvant verify --repair", s.Build.Label)
		}
	}
	return nil
}

// laneLine names the lane, where a game has more than one.
func laneLine(s *status.Status) string {
	switch {
	case s.Lanes < 2:
		return ""
	case s.Live:
		return fmt.Sprintf("%s, one of %d", s.Lane, s.Lanes)
	}
	return fmt.Sprintf("%s, parked, one of %d", s.Lane, s.Lanes)
}

// waitingLine tells of an update that the launcher has waiting for a held lane.
func waitingLine(s *status.Status) string {
	if s.Waiting == "" || !s.Live {
		return ""
	}
	line := fmt.Sprintf("the launcher has %s; morvant let-update takes it", s.Waiting)
	if s.Pin.Held() && s.Follower != "" {
		line += ", in lane " + s.Follower
	}
	return line
}

func folderWord(s *status.Status) string {
	if s.Live {
		return "live folder"
	}
	return "folder"
}

func (a *app) headline(s *status.Status) string {
	name := strong(s.Game.Display())
	switch {
	case s.Build == nil && s.Equals != nil:
		return fmt.Sprintf("%s is not held to any build. It is the same as %s.", name, s.Equals.Label)
	case s.Build == nil && s.Builds == 0:
		return fmt.Sprintf("%s is not held to any build. Nothing is recorded yet: morvant snapshot LABEL", name)
	case s.Build == nil:
		return fmt.Sprintf("%s is not held to any build, and is like none that is known.", name)
	case s.Drift.Any():
		return fmt.Sprintf("%s is held at %s. %s", name, s.Build.Label, paint(bad, differs(s.Drift)))
	}
	if n := s.Drift.Yielded; n > 0 {
		return fmt.Sprintf("%s is held at %s. Every file that is looked at is as it should be; %s left to rules.", name, s.Build.Label, isAre(n))
	}
	return fmt.Sprintf("%s is held at %s. %s", name, s.Build.Label, paint(good, "Every file is as it should be."))
}

// driftCount is how many files differ.
func driftCount(d *status.Drift) int {
	n := len(d.Altered) + len(d.Missing)
	if d.ExtraCounts {
		n += len(d.Extra)
	}
	return n
}

func differs(d *status.Drift) string {
	n := driftCount(d)
	if n == 1 {
		return "1 file differs."
	}
	return count(n, "file") + " differ."
}

// showDrift lists what differs, the biggest first.
func (a *app) showDrift(c *cli.Command, d *status.Drift) {
	a.say("\n  %s as built, %s altered, %s missing, %s extra, %s kept", comma(d.AsBuilt), comma(len(d.Altered)), comma(len(d.Missing)), comma(len(d.Extra)), comma(d.Kept))
	if n := d.Yielded; n > 0 {
		a.say("  %s of the build under keep or scratch rules: nobody has looked at %s.", count(n, "file"), them(n))
	}
	if u := d.Update; u != nil {
		how := "all of it"
		if u.Done < u.Of {
			how = fmt.Sprintf("half done: %s of %s", comma(u.Done), count(u.Of, "file"))
		}
		a.say("  This looks like an update to %s (%s), %s.", strong(u.Build.Label), u.Build.Line(), how)
	}
	var rows [][]string
	for _, group := range []struct {
		word string
		list []plan.Entry
	}{{paint(bad, "altered"), d.Altered}, {paint(bad, "missing"), d.Missing}, {paint(fresh, "extra"), d.Extra}, {"unread", d.Unread}} {
		rows = append(rows, fileRows(group.word, group.list, c.Bool("verbose"))...)
	}
	if len(rows) > 0 {
		a.say("\n%s", grid([]string{"State", ">Size", "File"}, rows))
	}
	if len(d.Unread) > 0 {
		a.say("%s touched since the last look, too large to read in passing: morvant verify reads them.", was(len(d.Unread)))
	}
}

func isAre(n int) string {
	if n == 1 {
		return "1 is"
	}
	return comma(n) + " are"
}

func was(n int) string {
	if n == 1 {
		return "1 file was"
	}
	return comma(n) + " files were"
}

func (a *app) verifyCommand() *cli.Command {
	return &cli.Command{
		Name: "verify", Usage: "read every byte of the build's files and compare", ArgsUsage: "[BUILD]", Category: groupRecord,
		Description: "Example: morvant verify --repair\n\n" +
			"Without BUILD it compares with what the game is held to. Exit code 3 says that something differs.",
		Flags: append(append(changeFlags(), lineFlags()...), &cli.BoolFlag{Name: "repair", Usage: "bring back what differs, after showing the plan"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, 0, 1)
			if err != nil {
				return err
			}
			if len(args) == 1 && c.Bool("repair") {
				return usagef("--repair brings back what the game is held to; to go to another build use morvant pin %s", args[0])
			}
			with := a.withLane
			if c.Bool("repair") {
				with = a.withChange
			}
			return with(ctx, c, func(l *lane.Lane, home *game.Home) error { return a.verify(ctx, c, l, home, args) })
		},
	}
}

func (a *app) verify(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, args []string) error {
	pin, b, err := l.Pin(ctx)
	if err != nil {
		return err
	}
	if len(args) == 1 {
		found, err := a.namedBuild(ctx, home, l.Game.Name, args[0])
		if err != nil {
			return err
		}
		choice, err := compose.Choose(ctx, l, found, nil)
		if err != nil {
			return err
		}
		b, pin = found, game.Pin{Components: choice.Names}
	}
	if b == nil {
		return lane.ErrNotHeld
	}
	started := a.now()
	d, tree, err := status.Verify(ctx, l, b, pin)
	if err != nil {
		return err
	}
	if c.Bool("json") && !(c.Bool("repair") && d.Any()) {
		err = a.emit(struct {
			Schema  string     `json:"schema"`
			Game    string     `json:"game"`
			Build   string     `json:"build"`
			Drifted bool       `json:"drifted"`
			Drift   *driftJSON `json:"drift"`
		}{"morvant-verify/1", l.Game.Name, b.Label, d.Any(), toDrift(d)})
	} else if !d.Any() {
		what := "every byte of it"
		if d.Yielded > 0 {
			what = "every byte that was looked at"
		}
		a.say("%s is %s, %s %s.", strong(l.Game.Display()), b.Label, what, faint(fmt.Sprintf("(%s read in %s)", count(d.AsBuilt, "file"), a.now().Sub(started).Round(10*time.Millisecond))))
		if len(d.Extra) > 0 || d.Kept+d.Yielded > 0 {
			a.showDrift(c, d)
			a.noteOdd(d.Odd)
		}
	} else {
		if !c.Bool("json") {
			a.say("%s is not quite %s: %s", strong(l.Game.Display()), b.Label, paint(bad, differs(d)))
			a.showDrift(c, d)
			a.noteOdd(d.Odd)
		}
		if c.Bool("repair") {
			p, err := change.ProposeRepair(ctx, l, tree)
			if err != nil {
				return err
			}
			return a.carry(ctx, c, l, p)
		}
	}
	if err == nil && d.Any() {
		return errDifferent
	}
	return err
}

// namedBuild finds the build that was typed.
func (a *app) namedBuild(ctx context.Context, home *game.Home, name, text string) (*game.Build, error) {
	r, err := ref.Parse(text)
	if err != nil {
		return nil, err
	}
	return a.findBuild(ctx, home, name, r)
}

// findBuild finds a build, and says what its name led to where that may surprise.
func (a *app) findBuild(ctx context.Context, home *game.Home, name string, r ref.Ref) (*game.Build, error) {
	found, err := home.FindBuild(ctx, name, r)
	if err != nil {
		return nil, err
	}
	a.tellFound(r, found)
	return found.Build, nil
}

func (a *app) tellFound(r ref.Ref, found game.Found) {
	if r.Kind == ref.Day {
		a.note("%s is %s of %s.", r, found.Label, day(found.Made))
		if len(found.SameDay) > 0 {
			var others []string
			for _, b := range found.SameDay {
				others = append(others, b.Label+" ("+day(b.Made)+")")
			}
			a.note("Also of that day: %s.", strings.Join(others, ", "))
		}
	}
	if found.Of != "" {
		a.note("More than one feed has a channel %s; here %s is what %s means by it.", found.Line(), r, found.Of)
	}
	if n := len(found.Early); n > 0 {
		more := ""
		if n > 1 {
			more = fmt.Sprintf(" (%s more)", comma(n-1))
		}
		b := found.Early[0]
		a.note("%s is dated %s, which has not come yet, and is passed over%s; name it to have it all the same.", b.Name(), day(b.Made), more)
	}
	for _, other := range found.Others {
		if found.Channel == "" && other.Digest() != found.Digest() {
			a.note("%s is your snapshot; %s is the feed's build of that name.", r, other.Name())
		}
	}
}
