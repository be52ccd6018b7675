package installs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/cli/proposal"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/record"
	"morvant/internal/lane/status"
	"morvant/internal/lanes"
	"morvant/internal/oplog"
	"morvant/internal/ref"
	"morvant/internal/state"
	"morvant/internal/transfer"
	"morvant/internal/volume"
)

func (a commands) laneCommand() *cli.Command {
	return &cli.Command{
		Name: "lane", Usage: "parallel installs: list, new, switch, rename, remove, share, unshare", Category: app.GroupLanes,
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list the lanes: live or parked, build, drift, size",
				Description: "Example: morvant lane list",
				Action: a.OnLane(app.Looking, 0, 0, func(ctx context.Context, c *cli.Command, l *lane.Lane, _ []string) error {
					return a.laneList(ctx, c, l)
				}),
			},
			a.laneNewCommand(),
			{
				Name: "switch", Usage: "park the live lane and make another one live", ArgsUsage: "LANE",
				Description: "Example: morvant lane switch old\n\n" +
					"Renames two folders and copies nothing; the path of the live folder stays the same. Each lane has its own block.",
				Action: a.OnLane(app.TheLiveOne, 1, 1, func(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
					return a.laneSwitch(ctx, c, l, args[0])
				}),
			},
			{
				Name: "rename", Usage: "give a lane another name", ArgsUsage: "LANE NAME",
				Description: "Example: morvant lane rename main current",
				Action: a.OnLane(app.Named, 2, 2, func(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
					app.LeaveFolder(l)
					if err := lanes.Rename(ctx, l, args[1]); err != nil {
						return err
					}
					return a.Done(c, fmt.Sprintf("Lane %s is now called %s.", args[0], args[1]))
				}),
			},
			{
				Name: "remove", Usage: "forget a parked lane; its files stay, unless you add --delete", ArgsUsage: "LANE",
				Description: "Example: morvant lane remove old --delete\n\n" +
					"--delete also deletes its folder, after recording everything in it as a snapshot.",
				Flags: append(app.ChangeFlags(), &cli.BoolFlag{Name: "delete", Usage: "delete its files as well"}),
				Action: a.OnLane(app.Named, 1, 1, func(ctx context.Context, c *cli.Command, l *lane.Lane, _ []string) error {
					return a.laneRemove(ctx, c, l)
				}),
			},
			{
				Name: "share", Usage: "keep one copy of a big folder for several lanes", ArgsUsage: "FOLDER",
				Description: "Example: morvant lane share Mods/Scenery --to \"/games/Quay scenery\"\n         morvant lane share Mods/Scenery --with races\n\n" +
					"Moves the folder there and puts links in its place. No command looks into a link. For a folder that is shared\n" +
					"already it links further lanes to it.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "to", Usage: "the `FOLDER` to move it to; not needed for one that is shared already"},
					&cli.StringSliceFlag{Name: "with", Usage: "another `LANE` to link it into (default: all that have nothing there)"},
				},
				Action: a.OnLane(app.ToLook, 1, 1, func(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
					return a.laneShare(ctx, c, l, l.Home, args[0])
				}),
			},
			{
				Name: "unshare", Usage: "give this lane its own copy of a shared folder again", ArgsUsage: "FOLDER",
				Description: "Example: morvant lane unshare Mods/Scenery",
				Action: a.OnLane(app.ToLook, 1, 1, func(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
					p := view.Slashed(args[0])
					if err := lanes.Unshare(ctx, l, p); err != nil {
						return err
					}
					return a.Done(c, fmt.Sprintf("Lane %[2]s has its own %[1]s again.", p, l.Name))
				}),
			},
		},
	}
}

func (a commands) laneShare(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, folder string) error {
	folder = view.Slashed(folder)
	taken, err := lanes.TakeLink(ctx, l, folder)
	if err != nil {
		return err
	}
	if taken {
		a.Note("%s is a link already; Morvant counts it as shared from now on.", folder)
	}
	already := lanes.Shared(ctx, l, folder)
	if !already && !c.IsSet("to") {
		return app.Usagef("say where %s is to be moved, with --to FOLDER", folder)
	}
	with := c.StringSlice("with")
	if !c.IsSet("with") {
		lanes, err := home.Lanes(ctx, l.Game.Name)
		if err != nil {
			return err
		}
		for _, o := range lanes {
			if o.Name == l.Name {
				continue
			}
			at := filepath.Join(l.Game.Folder(o), filepath.FromSlash(folder))
			switch _, err := os.Lstat(at); {
			case errors.Is(err, fs.ErrNotExist):
				with = append(with, o.Name)
			case err == nil && !volume.IsLink(at):
				a.Note("Lane %s has a %s of its own and keeps it.", o.Name, folder)
			}
		}
	}
	if already {
		linked, err := lanes.Join(ctx, l, folder, c.String("to"), with)
		if err != nil {
			return err
		}
		if len(linked) == 0 {
			return a.Done(c, fmt.Sprintf("No other lane needs %s; nothing was changed.", folder))
		}
		return a.Done(c, fmt.Sprintf("%s is linked into %s %s as well.", folder, view.LaneWord(len(linked)), strings.Join(linked, ", ")))
	}
	linked, err := lanes.Share(ctx, l, folder, c.String("to"), with)
	if err != nil {
		return err
	}
	return a.Done(c, fmt.Sprintf("%s is in %s now, and linked into %s %s.", folder, c.String("to"), view.LaneWord(len(linked)), strings.Join(linked, ", ")))
}

func (a commands) laneList(ctx context.Context, c *cli.Command, l *lane.Lane) error {
	list, err := lanes.Glimpses(ctx, l)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		out := []view.LaneJSON{}
		for _, g := range list {
			out = append(out, view.ToLaneJSON(g))
		}
		return a.Emit(struct {
			Schema string          `json:"schema"`
			Game   string          `json:"game"`
			Lanes  []view.LaneJSON `json:"lanes"`
		}{"morvant-lanes/1", l.Game.Name, out})
	}
	var rows [][]string
	for _, g := range list {
		rows = append(rows, view.LaneRow(g))
	}
	a.Table([]view.Column{
		{Head: "Lane", Cut: view.CutMiddle},
		{Head: "Where"},
		{Head: "Build", Cut: view.CutMiddle},
		{Head: "State", Cut: view.CutEnd},
		{Head: "Size", Right: true, Spare: 2},
		{Head: "Shared", Right: true, Spare: 3},
		{Head: "Last live", Spare: 4},
		{Head: "Folder", Spare: 1, Cut: view.CutStart, Least: 20},
	}, rows)
	for _, g := range list {
		if g.Err != nil {
			a.Note("Lane %s: %s", g.Name, view.OneLine(g.Err))
		}
	}
	return nil
}

func (a commands) laneSwitch(ctx context.Context, c *cli.Command, l *lane.Lane, name string) error {
	if name == l.Name {
		return a.Done(c, fmt.Sprintf("%s is lane %s already.", l.Game.Display(), name))
	}
	app.LeaveFolder(l)
	next, err := lanes.Switch(ctx, l, name)
	if err != nil {
		return err
	}
	line := fmt.Sprintf("Lane %[2]s of %[1]s is live now", l.Game.Display(), name)
	pin, b, err := next.Pin(ctx)
	held := err == nil && pin.Held() && b != nil
	if held {
		line += ", held at " + b.Label
	}
	line += fmt.Sprintf("; lane %s is parked.", l.Name)
	if label, err := status.Waiting(next); err == nil && label != "" && held {
		a.Note("Note: the launcher has %s waiting; morvant let-update takes it in the lane that follows updates.", label)
	}
	return errors.Join(a.Done(c, line), next.Close())
}

func (a commands) laneRemove(ctx context.Context, c *cli.Command, l *lane.Lane) error {
	question := fmt.Sprintf("Forget lane %s? Its files in %s stay.", l.Name, l.Dir)
	if c.Bool("delete") {
		question = fmt.Sprintf("Record all of lane %s as a snapshot, and delete %s?", l.Name, l.Dir)
	}
	if l.Live {
		return fmt.Errorf("%s: %w", l.Name, lane.ErrLive)
	}
	if err := a.Ask(c, question); err != nil {
		return err
	}
	app.LeaveFolder(l)
	b, err := lanes.Remove(ctx, l, c.Bool("delete"))
	if err != nil {
		return err
	}
	if b != nil {
		return a.Done(c, fmt.Sprintf("Lane %s is removed; snapshot/%s has all that was in it.", l.Name, b.Label))
	}
	return a.Done(c, fmt.Sprintf("Lane %s is forgotten; its files are in %s.", l.Name, l.Dir))
}

func (a commands) laneNewCommand() *cli.Command {
	return &cli.Command{
		Name: "new", Usage: "make another install from a build, a lane or a folder", ArgsUsage: "NAME",
		Description: "Example: morvant lane new old --from 1.1.1 --like main\n         morvant lane new races --adopt \"/games/Quay for races\"\n\n" +
			"The new lane is parked beside the live folder and held at its build. Where the file system can, it shares disk space\n" +
			"with the other lanes. --from ./FOLDER records a folder or an archive first. --like LANE also brings that lane's mods,\n" +
			"maps and settings (its keep rules), and its shared folders.",
		Flags: append(append(app.ChangeFlags(), app.FetchFlags()...), app.ComponentFlag(),
			&cli.StringFlag{Name: "from", Usage: "a `BUILD`, or lane/NAME for a copy of another lane (default: the build of the live lane)"},
			&cli.BoolFlag{Name: "exact", Usage: "restore a whole snapshot, your own files included"},
			&cli.StringFlag{Name: "adopt", Usage: "make a lane of this `FOLDER`, which stays where it is"},
			&cli.StringFlag{Name: "like", Usage: "also copy the files under keep rules of this `LANE`"},
			&cli.StringFlag{Name: "to", Usage: "the `FOLDER` for it, instead of beside the live folder"},
			&cli.BoolFlag{Name: "linked", Usage: "leave it in its folder, also when it is live: the live folder becomes a link to it"},
		),
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			args, err := app.Arguments(c, 1, 1)
			if err != nil {
				return err
			}
			if c.IsSet("adopt") && (c.IsSet("from") || c.IsSet("to")) {
				return app.Usagef("--adopt takes a folder as it is; --from and --to make a new one")
			}
			return a.WithLane(ctx, c, app.TheLiveOne, func(l *lane.Lane) error {
				n := lanes.NewLane{Name: args[0], Dir: c.String("to"), Linked: c.Bool("linked")}
				if c.IsSet("adopt") {
					n.Dir = c.String("adopt")
					return a.laneAdopt(ctx, c, l, n)
				}
				return a.laneNew(ctx, c, l, l.Home, n)
			})
		},
	}
}

// laneAdopt makes a lane of a folder, and records and holds it as it is.
func (a commands) laneAdopt(ctx context.Context, c *cli.Command, l *lane.Lane, n lanes.NewLane) error {
	if d, err := transfer.Doubts(ctx, l, n.Dir); err == nil && !d.None() { // what cannot be read is said below
		a.Note("%s", view.Doubt(d, l.Game.Display()))
		if d.Unlike && a.Interactive() && !c.Bool("dry-run") {
			if err := a.Ask(c, "Make it a lane of "+l.Game.Display()+" anyway?"); err != nil {
				return err
			}
		}
	}
	if c.Bool("dry-run") {
		dir, err := lanes.CheckAdopt(ctx, l, n)
		if err != nil {
			return err
		}
		return a.Done(c, fmt.Sprintf("%s would become lane %s of %s, recorded as it is and held there. This was a dry run; nothing was changed.", dir, n.Name, l.Game.Display()))
	}
	if like := c.String("like"); like != "" {
		if _, err := l.Home.Lane(ctx, l.Game.Name, like); err != nil {
			return err
		}
	}
	if of, err := lanes.CopyOf(ctx, l, n); err != nil {
		return err
	} else if of != "" {
		a.Note("%s has the marker of lane %s, which stands where it should: it is a copy of it.", n.Dir, of)
		if err := a.Question("Make the copy a lane of its own?"); err != nil { // nobody says yes to that in advance
			return err
		}
		n.Copy = true
	}
	o, err := lanes.Adopt(ctx, l, n, func(o *lane.Lane) error { return a.adopted(ctx, c, l, o) })
	if err != nil {
		return err
	}
	if like := c.String("like"); like != "" {
		err = errors.Join(a.carryKept(ctx, c, o, like), a.shareAs(ctx, o, like))
	}
	return errors.Join(err, o.Close())
}

// adopted records and holds a lane that has just been adopted.
func (a commands) adopted(ctx context.Context, c *cli.Command, l, o *lane.Lane) error {
	n := o.Name
	label, err := record.NextLabel(ctx, o, n)
	if err != nil {
		return err
	}
	s, err := record.Snapshot(ctx, o, record.Wanted{Label: label, Note: "lane " + n + ", as it was adopted"})
	if err != nil {
		return err
	}
	p, err := propose.Pin(ctx, o, s.Build, propose.PinOptions{Hold: true})
	if err != nil {
		return err
	}
	if err := change.CarryOut(ctx, o, p); err != nil {
		return err
	}
	return a.Done(c, fmt.Sprintf("%s is lane %s of %s, recorded as snapshot/%s and held there.", o.Dir, n, l.Game.Display(), label))
}

func (a commands) laneNew(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, n lanes.NewLane) error {
	from, err := a.laneOrigin(ctx, c, l, home)
	if err != nil {
		return err
	}
	odd, err := lanes.Oddities(ctx, l)
	if err != nil {
		return err
	}
	for _, o := range odd {
		if !o.Name && !((from.lane == l.Name || c.String("like") == l.Name) && lanes.Shared(ctx, l, o.Path)) {
			a.Note("Note: %s is %s, which no snapshot can hold; the new lane will not have it.", o.Path, o.What)
		}
	}
	o, err := lanes.Create(ctx, l, n, func(o *lane.Lane) error {
		a.NoteDisk(o.Dir)
		if err := a.fillLane(ctx, c, o, from); err != nil || !c.Bool("dry-run") {
			return err
		}
		return errDry
	})
	if err != nil {
		if errors.Is(err, errDry) {
			err = nil
		}
		for _, b := range from.recorded {
			if !errors.Is(err, oplog.ErrStays) { // nothing is in it that anybody would miss
				err = errors.Join(err, home.ForgetBuild(context.WithoutCancel(ctx), b))
			}
		}
		return err
	}
	if c.IsSet("like") {
		err = a.carryKept(ctx, c, o, c.String("like"))
	}
	var left error // something that could not be copied
	if errors.Is(err, errNotAll) {
		left, err = err, nil
	}
	for _, like := range []string{from.lane, c.String("like")} {
		if err != nil || like == "" {
			continue
		}
		if err = a.shareAs(ctx, o, like); errors.Is(err, errNotAll) {
			left, err = err, nil
		}
	}
	if err == nil {
		err = a.noteLinks(ctx, l, o)
	}
	return errors.Join(cmp.Or(err, left), o.Close())
}

// errDry takes back what a dry run needed to have for a moment.
var errDry = errors.New("a dry run")

// noteLinks tells of links out of the folder that the live lane has and a new one has not.
func (a commands) noteLinks(ctx context.Context, l, o *lane.Lane) error {
	list, err := lanes.LinksNotIn(ctx, l, o)
	if err == nil && len(list) > 0 {
		a.Note("Note: lane %s has %s out of the folder that the new lane will not have, such as %s; --like %s makes %s there, too.",
			l.Name, view.Count(len(list), "link"), list[0], view.Quoted(l.Name), view.Them(len(list)))
	}
	return err
}

// shareAs links the folders that another lane shares, and makes the links that the player has put there.
func (a commands) shareAs(ctx context.Context, o *lane.Lane, like string) error {
	linked, missed, err := lanes.ShareAs(ctx, o, like)
	if len(linked) > 0 {
		a.Note("Linked as in lane %s: %s.", like, strings.Join(linked, ", "))
	}
	for _, text := range missed {
		a.Note("Note: not linked: %s.", text)
	}
	if err == nil && len(missed) > 0 {
		err = app.AsRefusal(errNotAll)
	}
	return err
}

// laneOrigin is what a new lane is made of.
type laneOrigin struct {
	build      *state.Build
	components []string
	whole      bool           // with the player's own files, of another lane
	lane       string         // that lane
	recorded   []*state.Build // what was recorded to make it of
}

// laneOrigin finds what a new lane is to be made of.
func (a commands) laneOrigin(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home) (*laneOrigin, error) {
	if c.String("from") == "" {
		pin, b, err := l.Pin(ctx)
		if err != nil {
			return nil, err
		}
		if b == nil {
			return a.asItIs(ctx, l)
		}
		return &laneOrigin{build: b, components: pin.Components}, game.FindOffers(home, b)
	}
	if r, err := ref.Parse(c.String("from")); err == nil && r.Kind == ref.Lane {
		return a.otherLane(ctx, l, r.Name)
	}
	b, recorded, err := find.FolderOrBuild(ctx, a.App, c, l, c.String("from"))
	if err != nil {
		return nil, err
	}
	choice, err := compose.Choose(ctx, l, b, c.StringSlice("component")) // as the live lane has
	if err != nil {
		return nil, err
	}
	return &laneOrigin{build: b, components: choice.Names, recorded: recorded}, nil
}

// asItIs records the folder of a lane that is not held, to make another of it.
func (a commands) asItIs(ctx context.Context, l *lane.Lane) (*laneOrigin, error) {
	s, err := record.Snapshot(ctx, l, record.Wanted{Note: "lane " + l.Name + ", to make another of it"})
	if err != nil {
		return nil, err
	}
	if s.Same != nil {
		return &laneOrigin{build: s.Same}, l.Home.ForgetBuild(context.WithoutCancel(ctx), s.Build)
	}
	a.Note("Lane %s is not held, so its folder is recorded as it is, as snapshot/%s.", l.Name, s.Build.Label)
	return &laneOrigin{build: s.Build, recorded: []*state.Build{s.Build}}, nil
}

// otherLane records another lane, to make one like it.
func (a commands) otherLane(ctx context.Context, l *lane.Lane, name string) (*laneOrigin, error) {
	other, err := change.Beside(ctx, l, name)
	if err != nil {
		return nil, err
	}
	defer other.Close()
	label, err := record.NextLabel(ctx, other, "lane-"+name)
	if err != nil {
		return nil, err
	}
	s, err := record.Snapshot(ctx, other, record.Wanted{Label: label, Note: "lane " + name + ", to make another of it"})
	if err != nil {
		return nil, err
	}
	a.Note("Lane %s is recorded as snapshot/%s.", name, label)
	return &laneOrigin{build: s.Build, whole: true, lane: name, recorded: []*state.Build{s.Build}}, nil
}

// fillLane brings a build into a new lane.
func (a commands) fillLane(ctx context.Context, c *cli.Command, o *lane.Lane, from *laneOrigin) error {
	p, err := propose.Pin(ctx, o, from.build, propose.PinOptions{Hold: true, Whole: c.Bool("exact") || from.whole, Components: from.components})
	if err != nil {
		return err
	}
	return proposal.CarryOut(ctx, a.App, c, o, p)
}
