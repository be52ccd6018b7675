package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/lane/status"

	"github.com/aymanbagabas/go-udiff"
	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"morvant/internal/feed"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/ref"
)

func (a *app) diffCommand() *cli.Command {
	return &cli.Command{
		Name: "diff", Usage: "what changes from one build to another", ArgsUsage: "A [B]", Category: groupRecord,
		Description: "Example: morvant diff 1.1.1 here\n         morvant diff 1.1.1 1.3.0 --text data/cranes.txt\n\nWithout B it is here, the folder as it is now.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "all", Usage: "list every file, not only the biggest"},
			&cli.StringFlag{Name: "report", Usage: "write it as a page to read in a browser: `FILE.html`"},
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

func (a *app) side(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, text string) (*status.Side, error) {
	r, err := ref.Parse(text)
	if err != nil {
		return nil, err
	}
	if r.Kind == ref.Here {
		return status.HereSide(ctx, l)
	}
	b, err := a.findBuild(ctx, home, l.Game.Name, r)
	if err != nil {
		return nil, err
	}
	if b.Components == nil {
		return status.BuildSide(ctx, l, b, nil)
	}
	return status.BuildSide(ctx, l, b, c.StringSlice("component"))
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
	if p := filepath.ToSlash(c.String("text")); p != "" {
		return a.diffText(ctx, c, l, from, to, p)
	}
	d := status.Compare(l, from, to)
	if file := c.String("report"); file != "" {
		if err := a.mayWrite(c, file); err != nil {
			return err
		}
		if err := a.writeReport(ctx, l, d, file); err != nil {
			return err
		}
		return a.done(c, file+" has what changes from "+from.Label+" to "+to.Label+"; open it in a browser.")
	}
	cost, costErr := status.Cost(ctx, l, to)
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

func toDiffJSON(name string, d *status.Difference) diffJSON {
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

func (a *app) showDiff(c *cli.Command, l *lane.Lane, d *status.Difference) {
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
func (a *app) showCost(to *status.Side, cost *feed.Plan, err error) {
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

func (a *app) diffText(ctx context.Context, c *cli.Command, l *lane.Lane, from, to *status.Side, p string) error {
	old, inOld, err := status.Text(ctx, l, from, p)
	if err != nil {
		return err
	}
	fresh, inNew, err := status.Text(ctx, l, to, p)
	if err != nil {
		return err
	}
	if !inOld && !inNew {
		return &game.UnknownError{Kind: "file", Name: p, Near: nearestPaths(p, from.Manifest, to.Manifest)}
	}
	for _, text := range [][]byte{old, fresh} {
		if !isText(text) {
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
