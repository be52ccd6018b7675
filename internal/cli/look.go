package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/aymanbagabas/go-udiff"
	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"morvant/internal/feed"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/plan"
)

// few is how many files a list shows unless all are asked for.
const few = 8

func (a *app) statusCommand() *cli.Command {
	return &cli.Command{
		Name: "status", Usage: "how the game stands: build, drift, last change", Category: "record",
		Description: "Example: morvant status\n\nExit code 3 says that the folder differs from what it is held to.",
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := arguments(c, 0, 0); err != nil {
				return err
			}
			return a.withLane(ctx, c, func(l *lane.Lane, home *game.Home) error {
				s, err := l.Status(ctx)
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

func toDrift(d *lane.Drift) *driftJSON {
	if d == nil {
		return nil
	}
	j := &driftJSON{d.AsBuilt, toFiles(d.Altered), toFiles(d.Missing), toFiles(d.Extra), d.Kept, toFiles(d.Unread), oddPaths(d.Odd), nil}
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
	// Says is what the game says to be, where its content does not tell.
	Waiting string `json:"waiting,omitempty"` // update that the launcher has
	Says    string `json:"says,omitempty"`
	SaysBy  string `json:"says_by,omitempty"`
	// What the pin has beside its build.
	Overlays   []game.Overlay   `json:"overlays,omitempty"`
	Companions []game.Companion `json:"companions,omitempty"`
	Edits      []game.Edit      `json:"edits,omitempty"`
	Keep       []string         `json:"keep,omitempty"`
}

func (a *app) showStatus(c *cli.Command, s *lane.Status) error {
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
	if s.Drift != nil {
		a.showDrift(c, s.Drift)
		if s.Drift.Any() {
			a.say("\nSee it: morvant diff %s    Mend it: morvant verify --repair", s.Build.Label)
		}
	}
	return nil
}

// laneLine names the lane, where a game has more than one.
func laneLine(s *lane.Status) string {
	switch {
	case s.Lanes < 2:
		return ""
	case s.Live:
		return fmt.Sprintf("%s, one of %d", s.Lane, s.Lanes)
	}
	return fmt.Sprintf("%s, parked, one of %d", s.Lane, s.Lanes)
}

// waitingLine tells of an update that the launcher has waiting for a held lane.
func waitingLine(s *lane.Status) string {
	if s.Waiting == "" || !s.Live {
		return ""
	}
	line := fmt.Sprintf("the launcher has %s; morvant let-update takes it", s.Waiting)
	if s.Pin.Held() && s.Follower != "" {
		line += ", in lane " + s.Follower
	}
	return line
}

func folderWord(s *lane.Status) string {
	if s.Live {
		return "live folder"
	}
	return "folder"
}

func (a *app) headline(s *lane.Status) string {
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
	return fmt.Sprintf("%s is held at %s. %s", name, s.Build.Label, paint(good, "Every file is as it should be."))
}

// driftCount is how many files differ.
func driftCount(d *lane.Drift) int {
	n := len(d.Altered) + len(d.Missing)
	if d.ExtraCounts {
		n += len(d.Extra)
	}
	return n
}

func differs(d *lane.Drift) string {
	n := driftCount(d)
	if n == 1 {
		return "1 file differs."
	}
	return count(n, "file") + " differ."
}

// showDrift lists what differs, the biggest first.
func (a *app) showDrift(c *cli.Command, d *lane.Drift) {
	a.say("\n  %s as built, %s altered, %s missing, %s extra, %s kept", comma(d.AsBuilt), comma(len(d.Altered)), comma(len(d.Missing)), comma(len(d.Extra)), comma(d.Kept))
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
	a.noteOdd(d.Odd)
}

func was(n int) string {
	if n == 1 {
		return "1 file was"
	}
	return comma(n) + " files were"
}

func (a *app) verifyCommand() *cli.Command {
	return &cli.Command{
		Name: "verify", Usage: "read every byte of the build's files and compare", ArgsUsage: "[BUILD]", Category: "record",
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
		found, err := a.findBuild(ctx, home, l.Game.Name, args[0])
		if err != nil {
			return err
		}
		choice, err := l.Choose(ctx, found, nil)
		if err != nil {
			return err
		}
		b, pin = found, game.Pin{Components: choice.Names}
	}
	if b == nil {
		return lane.ErrNotHeld
	}
	started := a.now()
	d, tree, err := l.Verify(ctx, b, pin)
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
		a.say("%s is %s, every byte of it %s.", strong(l.Game.Display()), b.Label, faint(fmt.Sprintf("(%s read in %s)", count(d.AsBuilt, "file"), a.now().Sub(started).Round(10*time.Millisecond))))
		if len(d.Extra) > 0 || d.Kept > 0 {
			a.showDrift(c, d)
		}
	} else {
		if !c.Bool("json") {
			a.say("%s is not quite %s: %s", strong(l.Game.Display()), b.Label, paint(bad, differs(d)))
			a.showDrift(c, d)
		}
		if c.Bool("repair") {
			p, err := l.ProposeRepair(ctx, tree)
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

// findBuild resolves the name of a build and says what it led to where that may
// surprise.
func (a *app) findBuild(ctx context.Context, home *game.Home, name, ref string) (*game.Build, error) {
	found, err := home.FindBuild(ctx, name, ref)
	if err != nil {
		return nil, err
	}
	if strings.HasPrefix(ref, "@") {
		a.note("%s is %s of %s.", ref, found.Label, day(found.Made))
		if len(found.SameDay) > 0 {
			var others []string
			for _, b := range found.SameDay {
				others = append(others, b.Label+" ("+day(b.Made)+")")
			}
			a.note("Also of that day: %s.", strings.Join(others, ", "))
		}
	}
	for _, other := range found.Others {
		if found.Channel == "" && other.Digest() != found.Digest() {
			a.note("%s is your snapshot; %s is the feed's build of that name.", ref, other.Name())
		}
	}
	return found.Build, nil
}

func (a *app) diffCommand() *cli.Command {
	return &cli.Command{
		Name: "diff", Usage: "what changes from one build to another", ArgsUsage: "A [B]", Category: "record",
		Description: "Example: morvant diff 1.1.1 here\n         morvant diff 1.1.1 1.3.0 --text data/cranes.txt\n\nWithout B it is here, the folder as it is now.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "all", Usage: "list every file, not only the biggest"},
			&cli.StringFlag{Name: "text", Usage: "compare the lines of the text file `PATH`"},
			&cli.BoolFlag{Name: "exit-code", Usage: "exit with 3 if anything differs (so does --quiet)"},
			componentFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, 1, 2)
			if err != nil {
				return err
			}
			if len(args) == 1 {
				args = append(args, game.Here)
			}
			return a.withLane(ctx, c, func(l *lane.Lane, home *game.Home) error { return a.diff(ctx, c, l, home, args[0], args[1]) })
		},
	}
}

func (a *app) side(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, ref string) (*lane.Side, error) {
	if ref == game.Here {
		return l.HereSide(ctx)
	}
	b, err := a.findBuild(ctx, home, l.Game.Name, ref)
	if err != nil {
		return nil, err
	}
	if b.Components == nil {
		return l.BuildSide(ctx, b, nil)
	}
	return l.BuildSide(ctx, b, c.StringSlice("component"))
}

func (a *app) diff(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, refA, refB string) error {
	from, err := a.side(ctx, c, l, home, refA)
	if err != nil {
		return err
	}
	to, err := a.side(ctx, c, l, home, refB)
	if err != nil {
		return err
	}
	if p := c.String("text"); p != "" {
		return a.diffText(ctx, c, l, from, to, p)
	}
	d := l.Compare(from, to)
	cost, costErr := l.Cost(ctx, to)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	switch {
	case c.Bool("json"):
		j := toDiffJSON(l.Game.Name, d)
		if cost != nil {
			j.Fetch = &cost.Fetch
		}
		err = a.emit(j)
	case !c.Bool("quiet"):
		a.showDiff(c, l, d)
		a.showCost(to, cost, costErr)
	}
	if err == nil && (c.Bool("quiet") || c.Bool("exit-code")) && !d.Build.Empty() {
		return errDifferent
	}
	return err
}

type changedJSON struct {
	Path     string `json:"path"`
	Bytes    int64  `json:"bytes"`
	OldBytes int64  `json:"old_bytes"`
}

type movedJSON struct {
	From  string `json:"from"`
	To    string `json:"to"`
	Bytes int64  `json:"bytes"`
}

type linkJSON struct {
	Path string `json:"path"`
	Old  string `json:"old,omitempty"`
	New  string `json:"new,omitempty"`
}

type changesJSON struct {
	Changed     []changedJSON `json:"changed"`
	Added       []fileJSON    `json:"added"`
	Removed     []fileJSON    `json:"removed"`
	Moved       []movedJSON   `json:"moved"`
	Links       []linkJSON    `json:"links"`
	DirsAdded   []string      `json:"dirs_added"`
	DirsRemoved []string      `json:"dirs_removed"`
	Same        int           `json:"same"`
	NewBytes    int64         `json:"new_bytes"`
}

type diffJSON struct {
	Schema string      `json:"schema"`
	Game   string      `json:"game"`
	From   string      `json:"from"`
	To     string      `json:"to"`
	Build  changesJSON `json:"build"`
	Kept   changesJSON `json:"kept"`
	// Fetch is what would have to be fetched for all of To, if that is known.
	Fetch *int64 `json:"fetch_bytes,omitempty"`
}

func toDiffJSON(name string, d *lane.Difference) diffJSON {
	return diffJSON{Schema: "morvant-diff/1", Game: name, From: d.From.Label, To: d.To.Label, Build: toChanges(d.Build), Kept: toChanges(d.Kept)}
}

func toChanges(c *manifest.Changes) changesJSON {
	j := changesJSON{
		Changed: []changedJSON{}, Added: []fileJSON{}, Removed: []fileJSON{}, Moved: []movedJSON{}, Links: []linkJSON{},
		DirsAdded: append([]string{}, c.DirsAdded...), DirsRemoved: append([]string{}, c.DirsGone...), Same: c.Same, NewBytes: c.BytesIn(),
	}
	for _, f := range c.Changed {
		j.Changed = append(j.Changed, changedJSON{f.Path, f.New.Size, f.Old.Size})
	}
	for _, f := range c.Added {
		j.Added = append(j.Added, fileJSON{f.Path, f.Size})
	}
	for _, f := range c.Removed {
		j.Removed = append(j.Removed, fileJSON{f.Path, f.Size})
	}
	for _, m := range c.Moved {
		j.Moved = append(j.Moved, movedJSON{m.From.Path, m.To.Path, m.To.Size})
	}
	for _, l := range c.Links {
		j.Links = append(j.Links, linkJSON{l.Path, l.Old, l.New})
	}
	return j
}

func (a *app) showDiff(c *cli.Command, l *lane.Lane, d *lane.Difference) {
	from, to := d.From.Label, d.To.Label
	if to == game.Here {
		to = "the folder as it is now"
	}
	if d.Build.Empty() {
		a.say("%s: %s and %s are the same, %s.", strong(l.Game.Display()), from, to, count(d.Build.Same, "file"))
	} else {
		a.say("%s: from %s to %s", strong(l.Game.Display()), from, to)
		a.say("  %s changed, %s added, %s removed, %s moved, %s the same; %s of new content",
			comma(len(d.Build.Changed)), comma(len(d.Build.Added)), comma(len(d.Build.Removed)), comma(len(d.Build.Moved)), comma(d.Build.Same), size(d.Build.BytesIn()))
		a.say("\n%s", grid([]string{"Change", ">Size", "File"}, diffRows(d.Build, c.Bool("all") || c.Bool("verbose"))))
	}
	if k := d.Kept; !k.Empty() {
		a.say("\nYour own files (keep rules): %s changed, %s added, %s removed, %s moved. A pin leaves them alone.",
			comma(len(k.Changed)), comma(len(k.Added)), comma(len(k.Removed)), comma(len(k.Moved)))
		if c.Bool("all") || c.Bool("verbose") {
			a.say("%s", grid([]string{"Change", ">Size", "File"}, diffRows(k, true)))
		}
	}
}

// showCost says what a fetch of a side would come to.
func (a *app) showCost(to *lane.Side, cost *feed.Plan, err error) {
	a.showChoice(to.Choice)
	switch {
	case errors.Is(err, feed.ErrNoContent):
		a.say("  %s cannot be fetched: %s", to.Label, err)
	case err != nil:
		a.say("  what a fetch of %s would cost is not known: %s", to.Label, oneLine(err))
	case cost.Empty():
	case cost.Fetch == 0:
		a.say("  nothing of %s has to be fetched: files here hold it", to.Label)
	default:
		a.say("  a fetch of %s would bring %s over the line", to.Label, size(cost.Fetch))
	}
}

func comma(n int) string { return humanize.Comma(int64(n)) }

// diffRows lists changes by kind, the biggest first, and of each kind a few unless
// all are wanted.
func diffRows(c *manifest.Changes, all bool) [][]string {
	var rows [][]string
	section := func(word string, n int, row func(i int) (size, path string)) {
		for i := range n {
			if i == few && !all {
				rows = append(rows, []string{word, "", faint(fmt.Sprintf("and %s more; --all lists them", comma(n-few)))})
				return
			}
			s, p := row(i)
			rows = append(rows, []string{word, s, p})
		}
	}
	section(paint(fresh, "changed"), len(c.Changed), func(i int) (string, string) {
		f := c.Changed[i]
		was, is := size(f.Old.Size), size(f.New.Size)
		if was != is {
			is = was + " → " + is
		}
		return is, f.Path
	})
	section(paint(good, "added"), len(c.Added), func(i int) (string, string) { return size(c.Added[i].Size), c.Added[i].Path })
	section(paint(bad, "removed"), len(c.Removed), func(i int) (string, string) { return size(c.Removed[i].Size), c.Removed[i].Path })
	section("moved", len(c.Moved), func(i int) (string, string) {
		m := c.Moved[i]
		return size(m.To.Size), m.From.Path + " → " + m.To.Path
	})
	section("link", len(c.Links), func(i int) (string, string) {
		l := c.Links[i]
		return "", fmt.Sprintf("%s: %s → %s", l.Path, orNone(l.Old), orNone(l.New))
	})
	section(paint(good, "new folder"), len(c.DirsAdded), func(i int) (string, string) { return "", c.DirsAdded[i] })
	section(paint(bad, "folder gone"), len(c.DirsGone), func(i int) (string, string) { return "", c.DirsGone[i] })
	return rows
}

func orNone(s string) string {
	if s == "" {
		return "(none)"
	}
	return s
}

func (a *app) diffText(ctx context.Context, c *cli.Command, l *lane.Lane, from, to *lane.Side, p string) error {
	old, inOld, err := l.Text(ctx, from, p)
	if err != nil {
		return err
	}
	fresh, inNew, err := l.Text(ctx, to, p)
	if err != nil {
		return err
	}
	if !inOld && !inNew {
		return &game.UnknownError{Kind: "file", Name: p, Near: nearestPaths(p, from.Manifest, to.Manifest)}
	}
	for _, text := range [][]byte{old, fresh} {
		if !utf8.Valid(text) || bytes.IndexByte(text, 0) >= 0 {
			return usagef("%s is not a text file, so it has no lines to compare", p)
		}
	}
	diff := udiff.Unified(from.Label+"/"+p, to.Label+"/"+p, string(old), string(fresh))
	if c.Bool("json") {
		err = a.emit(struct {
			Schema string `json:"schema"`
			Path   string `json:"path"`
			From   string `json:"from"`
			To     string `json:"to"`
			Diff   string `json:"diff"`
		}{"morvant-text-diff/1", p, from.Label, to.Label, diff})
	} else if diff == "" {
		a.say("%s is the same in %s and %s.", p, from.Label, to.Label)
	} else if !c.Bool("quiet") {
		for line := range strings.Lines(diff) {
			fmt.Fprint(a.out, paintLine(line))
		}
	}
	if err == nil && diff != "" && (c.Bool("quiet") || c.Bool("exit-code")) {
		return errDifferent
	}
	return err
}

func paintLine(line string) string {
	text := strings.TrimSuffix(line, "\n")
	switch {
	case strings.HasPrefix(text, "+"):
		text = paint(good, text)
	case strings.HasPrefix(text, "-"):
		text = paint(bad, text)
	case strings.HasPrefix(text, "@@"):
		text = faint(text)
	}
	return text + "\n"
}

// nearestPaths finds paths that end like p.
func nearestPaths(p string, manifests ...*manifest.Manifest) []string {
	base := strings.ToLower(p[strings.LastIndexByte(p, '/')+1:])
	var near []string
	for _, m := range manifests {
		for _, f := range m.Files {
			if len(near) < 3 && strings.Contains(strings.ToLower(f.Path), base) && !slices.Contains(near, f.Path) {
				near = append(near, f.Path)
			}
		}
	}
	return near
}
