package cli

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"time"

	"morvant/internal/lane/change"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/plan"
	"morvant/internal/ref"
	"morvant/internal/volume"
)

func changeFlags() []cli.Flag {
	return []cli.Flag{&cli.BoolFlag{Name: "dry-run", Aliases: []string{"n"}, Usage: "show the plan and stop"}}
}

func (a *app) pinCommand() *cli.Command {
	return &cli.Command{
		Name: "pin", Usage: "bring the game to a build and hold it there", ArgsUsage: "BUILD", Category: groupPin,
		Description: "Example: morvant pin 1.1.1\n\n" +
			"Only what differs is replaced. Files under keep rules are never touched; other files that the build does\n" +
			"not have stay and are reported, but for those of the build held before. Everything that is replaced or\n" +
			"removed is in the store first, and morvant undo brings it back. What is not on this computer is fetched\n" +
			"from the game's feeds, once the plan has said how much.",
		Flags: append(append(append(changeFlags(), lineFlags()...), additionFlags()...), componentFlag(),
			&cli.BoolFlag{Name: "clean", Usage: "also remove files that are neither the build's nor yours"},
			&cli.BoolFlag{Name: "exact", Usage: "bring the snapshot back whole, your own files included, as it was then"},
			&cli.BoolFlag{Name: "no-block", Usage: "do not keep the launcher from updating it"},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, 1, 1)
			if err != nil {
				return err
			}
			if r, err := ref.Parse(args[0]); err == nil && r.Kind == ref.Here {
				return usagef("here is not recorded yet; run morvant snapshot LABEL, then pin LABEL")
			}
			return a.withChange(ctx, c, func(l *lane.Lane, home *game.Home) error {
				b, err := a.findOffered(ctx, c, home, l.Game.Name, args[0])
				if err != nil {
					return err
				}
				add, err := a.additions(ctx, c, l, home)
				if err != nil {
					return err
				}
				p, err := change.ProposePin(ctx, l, b, change.PinOptions{
					Clean: c.Bool("clean"), Exact: c.Bool("exact"), Hold: true, Components: c.StringSlice("component"), Open: c.Bool("no-block"), Add: add,
				})
				if err != nil {
					return err
				}
				return a.carry(ctx, c, l, p)
			})
		},
	}
}

func (a *app) unpinCommand() *cli.Command {
	return &cli.Command{
		Name: "unpin", Usage: "lift the hold and bring back the folder from before it", Category: groupPin,
		Description: "Example: morvant unpin\n         morvant unpin --stay\n         morvant unpin --to newest",
		Flags: append(append(changeFlags(), lineFlags()...),
			&cli.BoolFlag{Name: "stay", Usage: "leave every file as it is"},
			&cli.StringFlag{Name: "to", Usage: "go to this `BUILD` instead"},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := arguments(c, 0, 0); err != nil {
				return err
			}
			if c.Bool("stay") && c.IsSet("to") {
				return usagef("--stay and --to say different things; choose one")
			}
			return a.withChange(ctx, c, func(l *lane.Lane, home *game.Home) error {
				p, err := a.proposeUnpin(ctx, c, l, home)
				if err != nil {
					return err
				}
				return a.carry(ctx, c, l, p)
			})
		},
	}
}

func (a *app) proposeUnpin(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home) (*change.Proposal, error) {
	switch {
	case c.Bool("stay"):
		return change.ProposeLift(ctx, l)
	case c.IsSet("to"):
		if pin, err := home.Pin(ctx, l.Game.Name, l.Name); err != nil || !pin.Held() {
			return nil, firstOf(err, lane.ErrNotHeld)
		}
		b, err := a.findOffered(ctx, c, home, l.Game.Name, c.String("to"))
		if err != nil {
			return nil, err
		}
		return change.ProposePin(ctx, l, b, change.PinOptions{})
	}
	return change.ProposeUnpin(ctx, l)
}

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func (a *app) undoCommand() *cli.Command {
	return &cli.Command{
		Name: "undo", Usage: "take back the last change of the game's folder", ArgsUsage: "[NUMBER]", Category: groupPin,
		Description: "Example: morvant undo\n\n" +
			"Content, names, times and modes come back as they were. An undo is a change too: to take it back,\n" +
			"give its number from morvant history.",
		Flags: changeFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			id, err := optionalNumber(c, "change", "history")
			if err != nil {
				return err
			}
			return a.withChange(ctx, c, func(l *lane.Lane, home *game.Home) error {
				p, _, err := change.ProposeUndo(ctx, l, id)
				if err != nil {
					return err
				}
				return a.carry(ctx, c, l, p)
			})
		},
	}
}

// carry shows a plan, asks, carries it out and says what came of it. It is the
// end of every command that changes a lane.
func (a *app) carry(ctx context.Context, c *cli.Command, l *lane.Lane, p *change.Proposal) error {
	dry := c.Bool("dry-run")
	asJSON := c.Bool("json")
	if !asJSON && !c.Bool("quiet") {
		a.showPlan(c, l, p)
	}
	if dry {
		if err := change.Ready(l, p); err != nil {
			a.note("Note: as things stand it could not be carried out: %s.", oneLine(err))
		}
	}
	if !dry {
		if err := a.acceptStranger(ctx, l); err != nil {
			return err
		}
		if err := change.Ready(l, p); err != nil {
			return err
		}
		if !p.Plan.Empty() {
			if err := a.ask(c, "Go ahead?"); err != nil {
				return err
			}
		}
		if err := change.CarryOut(ctx, l, p); err != nil {
			return err
		}
	}
	if asJSON {
		return a.emit(toPlanJSON(l.Game.Name, p, !dry))
	}
	if dry {
		a.say("\nThis was a dry run; nothing was changed.")
		return nil
	}
	a.say("%s", outcome(l, p))
	return nil
}

// acceptStranger asks whether a folder that may not be the game's is to be taken for it.
// No option says so: it takes somebody who has read what is there.
func (a *app) acceptStranger(ctx context.Context, l *lane.Lane) error {
	why := l.Stranger()
	if why == "" {
		return nil
	}
	n, bytes := contentOf(l.Dir)
	a.note("%s may not be the folder of %s: %s. It holds %s, %s.", l.Dir, l.Title(), why, count(n, "file"), size(bytes))
	if !term.IsTerminal(int(a.in.Fd())) {
		return fmt.Errorf("%w: %s; if it is the one, say so: morvant game set -g %s --live %s", lane.ErrStranger, why, l.Game.Name, quoted(l.Dir))
	}
	if err := a.question("Change it all the same?"); err != nil {
		return err
	}
	return l.Accept(ctx)
}

// contentOf counts what a folder holds.
func contentOf(dir string) (n int, bytes int64) {
	_ = filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil
		}
		if info, err := d.Info(); err == nil {
			n++
			bytes += info.Size()
		}
		return nil
	})
	return n, bytes
}

// command begins a command line about a lane.
func command(l *lane.Lane) string {
	if l.Live {
		return "morvant"
	}
	return "morvant -l " + l.Name
}

func outcome(l *lane.Lane, p *change.Proposal) string {
	name := strong(l.Title())
	back := ""
	if !p.Plan.Empty() {
		back = " " + faint("Take it back: "+command(l)+" undo")
	}
	switch p.Change.What {
	case "pin":
		return fmt.Sprintf("%s is held at %s.%s", name, paint(good, p.Build.Label), back)
	case "repair":
		return fmt.Sprintf("%s is %s again.%s", name, paint(good, p.Build.Label), back)
	case "undo":
		return fmt.Sprintf("Change %d of %s is taken back. %s", p.Change.Undoes, name, faint(fmt.Sprintf("Take that back: %s undo %d", command(l), p.Change.ID)))
	}
	if p.Change.What == "carry" {
		return fmt.Sprintf("%s has the files of %s.%s", name, p.Change.Build, back)
	}
	if p.Build != nil {
		return fmt.Sprintf("%s is %s now, and not held.%s", name, p.Build.Label, back)
	}
	return fmt.Sprintf("%s is not held any more.%s", name, back)
}

type stepJSON struct {
	Path   string `json:"path"`
	Action string `json:"action"`
	Bytes  int64  `json:"bytes,omitempty"`
	From   string `json:"from,omitempty"`
}

type planJSON struct {
	Schema   string      `json:"schema"`
	Game     string      `json:"game"`
	Change   int64       `json:"change,omitempty"`
	What     string      `json:"what"`
	Build    string      `json:"build,omitempty"`
	Undoes   int64       `json:"undoes,omitempty"`
	Done     bool        `json:"done"`
	Totals   game.Totals `json:"totals"`
	Steps    []stepJSON  `json:"steps"`
	Extra    []fileJSON  `json:"extra"`
	Kept     int         `json:"kept"`
	Yielded  int         `json:"left_to_rules"` // files of the build that rules cover
	Same     int         `json:"same"`
	LeftOut  []string    `json:"left_out"`
	Recorded time.Time   `json:"date"`
	// What the pin is to have beside its build.
	Overlays   []game.Overlay   `json:"overlays,omitempty"`
	Companions []game.Companion `json:"companions,omitempty"`
	Edits      []game.Edit      `json:"edits,omitempty"`
	Keep       []string         `json:"keep,omitempty"`
	// Components and Fetch are those of a feed's build.
	Components []string `json:"components,omitempty"`
	Fetch      int64    `json:"fetch_bytes"`
}

func toPlanJSON(name string, p *change.Proposal, done bool) planJSON {
	j := planJSON{
		Schema: "morvant-change/1", Game: name, Change: p.Change.ID, What: p.Change.What, Build: p.Change.Build, Undoes: p.Change.Undoes,
		Done: done, Totals: p.Change.Totals, Steps: []stepJSON{}, Extra: toFiles(p.Plan.Extra), Kept: p.Plan.Kept, Yielded: p.Yielded, Same: p.Plan.Same,
		LeftOut: oddPaths(p.Odd), Recorded: p.Change.Made,
	}
	if p.Choice != nil {
		j.Components = p.Choice.Names
	}
	if pin := p.Change.After; p.Change.What == "pin" {
		j.Overlays, j.Companions, j.Edits, j.Keep = pin.Overlays, pin.Companions, pin.Edits, pin.Keep
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

func (a *app) showPlan(c *cli.Command, l *lane.Lane, p *change.Proposal) {
	what := lane.Describe(&p.Change)
	for _, text := range p.Notes {
		a.note("Note: %s.", text)
	}
	if p.Plan.Empty() {
		a.say("%s of %s changes no file.", what, strong(l.Title()))
		a.showLeft(c, p)
		a.showSteps(l, p)
		return
	}
	t := p.Plan.Totals()
	a.say("%s of %s:", what, strong(l.Title()))
	a.say("  %s replaced, %s added, %s removed, %s moved, %s the same; %s to write%s",
		comma(t.Replaced), comma(t.Added), comma(t.Removed), comma(t.Moved), comma(p.Plan.Same), size(t.Write), a.freeSpace(l))
	// Folders go without saying where files come or go with them.
	if t.Made > t.Added+t.Moved || t.Unmade > t.Removed+t.Moved {
		a.say("  %s made, %s removed", count(t.Made, "folder"), comma(t.Unmade))
	}
	if p.Shared > 0 {
		a.say("  %s of that shared with another lane, and taking no space", size(p.Shared))
	}
	if t.Retimed > 0 {
		a.say("  %s the date or mode back", gets(t.Retimed))
	}
	a.showChoice(p.Choice)
	for _, f := range p.Fetches {
		a.showFetchPlan(f.Plan, l.Store.Dir())
	}
	moved := make(map[string]bool)
	for i := range p.Plan.Steps {
		moved[p.Plan.Steps[i].From] = true
	}
	if rows := planRows(p.Plan, moved, c.Bool("verbose")); len(rows) > 0 {
		a.say("\n%s\n", grid([]string{"Action", ">Size", "File"}, rows))
	}
	a.showLeft(c, p)
	a.showSteps(l, p)
}

// showSteps tells which commands of the player's run after a pin.
func (a *app) showSteps(l *lane.Lane, p *change.Proposal) {
	if p.Change.What != "pin" {
		return
	}
	for _, line := range l.Game.AfterPin {
		a.say("  then runs: %s", line)
	}
	if l.Game.ConvertSaves != "" {
		a.say("  then converts a copy of the saves: %s", l.Game.ConvertSaves)
	}
}

func gets(n int) string {
	if n == 1 {
		return "1 file gets"
	}
	return comma(n) + " files get"
}

func (a *app) freeSpace(l *lane.Lane) string {
	free, err := volume.Free(l.Dir)
	if err != nil {
		return ""
	}
	return ", " + size(free) + " free"
}

func planRows(p *plan.Plan, moved map[string]bool, all bool) [][]string {
	words := map[string]string{
		"replace": paint(fresh, "replace"), "add": paint(good, "add"), "remove": paint(bad, "remove"), "move": "move",
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
		rows = append(rows, fileRows(words[kind], list, all)...)
	}
	return rows
}

// fileRows lists files under one word, the biggest first, and only a few unless
// all are wanted.
func fileRows(word string, list []plan.Entry, all bool) [][]string {
	slices.SortFunc(list, plan.BiggestFirst)
	var rows [][]string
	for i, e := range list {
		if i == few && !all {
			return append(rows, []string{word, "", faint(fmt.Sprintf("and %s more; --verbose lists all", comma(len(list)-few)))})
		}
		rows = append(rows, []string{word, size(e.Size), e.Path})
	}
	return rows
}

// showLeft tells what a plan leaves alone.
func (a *app) showLeft(c *cli.Command, p *change.Proposal) {
	if p.Plan.Kept > 0 {
		a.say("  %s of yours left alone (keep rules)", count(p.Plan.Kept, "file"))
	}
	if n := p.Yielded; n > 0 {
		a.say("  %s of the build left alone too, as keep or scratch rules cover %s", count(n, "file"), them(n))
	}
	if n := len(p.Plan.Extra); n > 0 {
		a.say("  %s not of this build left alone; --clean would remove %s:", count(n, "file"), them(n))
		for i, e := range p.Plan.Extra {
			if i == few && !c.Bool("verbose") {
				a.say("    %s", faint(fmt.Sprintf("and %s more; --verbose lists all", comma(n-few))))
				break
			}
			a.say("    %s  %s", e.Path, faint(size(e.Size)))
		}
	}
	a.noteOdd(p.Odd)
}

func them(n int) string {
	if n == 1 {
		return "it"
	}
	return "them"
}

func (a *app) historyCommand() *cli.Command {
	return &cli.Command{
		Name: "history", Usage: "list the changes of the game's folder", Category: groupPin,
		Description: "Example: morvant history",
		Action:      a.onGame(a.history),
		Commands: []*cli.Command{{
			Name: "output", Usage: "show what the steps after a pin have said", ArgsUsage: "NUMBER",
			Description: "Example: morvant history output 3",
			Action: func(ctx context.Context, c *cli.Command) error {
				args, err := arguments(c, 1, 1)
				if err != nil {
					return err
				}
				id, err := number(args[0], "change", "history")
				if err != nil {
					return err
				}
				return a.withGame(ctx, c, func(home *game.Home, name string) error {
					text, err := home.Output(ctx, name, id)
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return a.emit(struct {
							Schema string `json:"schema"`
							Change int64  `json:"change"`
							Output string `json:"output"`
						}{"morvant-output/1", id, text})
					}
					fmt.Fprint(a.out, text)
					return nil
				})
			},
		}, {
			Name: "forget", Usage: "forget changes made before a date; they cannot be taken back any more", ArgsUsage: "DATE",
			Description: "Example: morvant history forget 2031-08-01\n\nThe content that only they needed is given back by morvant store trim.",
			Action: func(ctx context.Context, c *cli.Command) error {
				args, err := arguments(c, 1, 1)
				if err != nil {
					return err
				}
				before, err := time.ParseInLocation(time.DateOnly, args[0], time.Local)
				if err != nil {
					return usagef("%q is not a date; write it like 2031-08-01", args[0])
				}
				return a.withGame(ctx, c, func(home *game.Home, name string) error {
					if err := a.ask(c, "Forget every change of "+name+" before "+args[0]+"?"); err != nil {
						return err
					}
					n, err := home.ForgetChanges(ctx, name, before)
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return a.emit(struct {
							Schema  string `json:"schema"`
							Changes int64  `json:"changes"`
						}{"morvant-forgotten/1", n})
					}
					a.say("%s forgotten.", count(int(n), "change"))
					return nil
				})
			},
		}},
	}
}

func (a *app) history(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	is, err := home.LaneName(ctx, name)
	if err != nil {
		return err
	}
	list, err := home.History(ctx, name, is)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.emit(toHistoryJSON(name, list))
	}
	if len(list) == 0 {
		a.say("Nothing in the folder of %s has been changed by Morvant yet.", g.Display())
		return nil
	}
	var rows [][]string
	for _, h := range list {
		state := "stands"
		if h.Undone != 0 {
			state = fmt.Sprintf("taken back by %d", h.Undone)
		} else if h.What == "undo" {
			state = ""
		}
		t := h.Totals
		rows = append(rows, []string{
			fmt.Sprint(h.ID), day(h.Made), lane.Describe(h),
			comma(t.Replaced), comma(t.Added), comma(t.Removed), comma(t.Moved), size(t.Written), state,
		})
	}
	a.say("%s", grid([]string{">No", "Date", "Change", ">Replaced", ">Added", ">Removed", ">Moved", ">Written", "State"}, rows))
	for _, h := range list {
		if h.Notes != "" {
			a.say("Change %d: %s.", h.ID, h.Notes)
		}
	}
	return nil
}

type historyItem struct {
	ID     int64       `json:"id"`
	Date   time.Time   `json:"date"`
	What   string      `json:"what"`
	Build  string      `json:"build,omitempty"`
	Undoes int64       `json:"undoes,omitempty"`
	Undone int64       `json:"undone_by,omitempty"`
	Totals game.Totals `json:"totals"`
	Notes  string      `json:"notes,omitempty"`
}

func toHistoryJSON(name string, list []*game.Change) any {
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
