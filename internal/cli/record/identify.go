package record

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/status"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

func (a commands) identifyCommand() *cli.Command {
	return &cli.Command{
		Name: "identify", Usage: "which known build is this folder?", ArgsUsage: "[FOLDER]", Category: app.GroupRecord,
		Description: "Example: morvant identify ~/Downloads/\"Cinder Quay copy\"\n\n" +
			"Compares the content with every known build, snapshots and those of feeds. Without FOLDER it looks at the\n" +
			"live folder. Nothing is changed.",
		Action: a.OnGame(0, 1, func(ctx context.Context, c *cli.Command, home *game.Home, name string, args []string) error {
			return a.identify(ctx, c, home, name, args)
		}),
	}
}

func (a commands) identify(ctx context.Context, c *cli.Command, home *game.Home, name string, args []string) (err error) {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	is, err := home.Lane(ctx, name, "")
	if err != nil {
		return err
	}
	dir, ofLane := g.Folder(is), true
	if len(args) == 1 {
		if dir, err = filepath.Abs(args[0]); err != nil {
			return err
		}
		if ofLane, err = useLaneAt(ctx, home, name, dir); err != nil {
			return err
		}
	}
	var found *identify.Answer
	if ofLane {
		var session *app.Session
		if session, err = a.OpenLaneOf(ctx, c, home, name, app.Looking); err != nil {
			return err
		}
		defer session.Close(&err)
		found, err = status.Identify(ctx, session.Lane)
	} else {
		found, err = a.identifyOther(ctx, c, home, g, dir)
	}
	if err != nil {
		return err
	}
	// What is not like it at all is no answer.
	found.Matches = slices.DeleteFunc(found.Matches, func(m *identify.Match) bool { return m.Same == 0 })
	program := g.Program
	if len(args) == 1 {
		if _, err := os.Stat(filepath.Join(dir, filepath.FromSlash(program))); err != nil {
			program = "" // another folder may have it elsewhere
		}
	}
	says, err := identify.Says(dir, program, g.Version)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.Emit(view.ToIdentifyJSON(name, dir, found, says))
	}
	a.showMatches(c, dir, found)
	if best := found.Matches; found.Unread > 0 && (len(best) == 0 || !best[0].Exact()) {
		a.Say("%s of a distributor%s not compared, for what they hold has not been read: morvant feed refresh --all reads it.", view.Count(found.Unread, "build"), view.AreIs(found.Unread))
	}
	builds, err := home.Builds(ctx, name)
	if err != nil {
		return err
	}
	a.showEvidence(found.Matches, says, builds)
	return nil
}

// useLaneAt makes the lane whose folder dir is the one that is meant; false: it is no lane's.
func useLaneAt(ctx context.Context, home *game.Home, name, dir string) (bool, error) {
	info, err := os.Stat(dir)
	if err != nil {
		return false, err
	}
	g, l, err := home.Holding(ctx, dir)
	if err != nil || g == nil || g.Name != name {
		return false, err
	}
	folder, err := os.Stat(g.Folder(l))
	if err != nil || !os.SameFile(info, folder) {
		return false, nil
	}
	home.UseLane(l.Name)
	return true, nil
}

// showEvidence says what the game itself says, and where that is at odds with its
// content.
func (a commands) showEvidence(list []*identify.Match, says []identify.Evidence, builds []*state.Build) {
	var labels []string
	for _, b := range builds {
		labels = append(labels, b.Label)
	}
	var against []identify.Evidence
	if len(list) > 0 {
		against = identify.Disagrees(says, list[0].Build.Label, labels)
	}
	for _, e := range says {
		text := fmt.Sprintf("%s says %s", e.Source, e.Says)
		if e.Log {
			text += " (when it last ran)"
		}
		if slices.Contains(against, e) {
			if list[0].Exact() {
				text += "; by its content it is exactly " + list[0].Build.Label
			} else {
				text = view.Paint(view.Bad, text) + ", but its content says otherwise"
			}
		}
		a.Say("  %s", text)
	}
}

// identifyOther compares a folder that is no lane's with everything known.
func (a commands) identifyOther(ctx context.Context, c *cli.Command, home *game.Home, g *game.Game, dir string) (*identify.Answer, error) {
	s, err := store.Open(ctx, home.StoreDir())
	if err != nil {
		return nil, err
	}
	defer s.Close()
	unread, err := compose.AskLikely(ctx, home, g.Name, 0, a.FeedOptions(c))
	if err != nil {
		return nil, err
	}
	known, err := compose.Known(ctx, home, s, g)
	if err != nil {
		return nil, err
	}
	cache := scan.OpenCache(home.CacheFile())
	defer cache.Close()
	answer, err := identify.Folder(ctx, identify.Request{Dir: dir, Rules: g.Rules(), Known: known, Cache: cache, Meter: a.Meter, Now: a.Now})
	if err == nil {
		answer.Unread = unread
	}
	return answer, err
}

func (a commands) showMatches(c *cli.Command, dir string, found *identify.Answer) {
	list := found.Matches
	if len(list) == 0 {
		a.Say("%s is like no known build. morvant builds lists them; morvant feed add brings more.", dir)
		return
	}
	best := list[0]
	switch {
	case best.Exact():
		var same []string
		for _, m := range list {
			if m.Exact() {
				same = append(same, view.Strong(m.Build.Label)+" ("+m.Build.Line()+")")
			}
		}
		a.Say("%s is %s: %s, all as built.", dir, view.Paint(view.Good, strings.Join(same, " and ")), view.Count(best.Same, "file"))
	default:
		a.Say("%s is closest to %s (%s): %s match, %s of %s are as built.",
			dir, view.Strong(best.Build.Label), best.Build.Line(), view.Percent(best.Share()), view.Comma(best.Same), view.Count(best.Files, "file"))
	}
	var rows [][]string
	shown := list
	if !c.Bool("verbose") {
		shown = list[:min(view.Few, len(list))]
	}
	for _, m := range shown {
		var there, not []string
		for _, comp := range m.Components {
			if comp.There {
				there = append(there, comp.Name)
			} else {
				not = append(not, comp.Name)
			}
		}
		parts := strings.Join(there, ", ")
		if len(not) > 0 {
			parts += view.Faint("; without " + strings.Join(not, ", "))
		}
		state := view.Percent(m.Share())
		if m.Exact() {
			state = view.Paint(view.Good, "exact")
		}
		rows = append(rows, []string{m.Build.Label, m.Build.Line(), view.Day(m.Build.Made), state, view.Comma(m.Same), view.Comma(len(m.Altered)), view.Comma(len(m.Missing)), parts})
	}
	a.Say("")
	a.Table([]view.Column{
		{Head: "Build", Cut: view.CutMiddle},
		{Head: "Channel", Spare: 3},
		{Head: "Date", Spare: 4},
		{Head: "Match", Right: true},
		{Head: "As built", Right: true, Spare: 2},
		{Head: "Altered", Right: true},
		{Head: "Missing", Right: true},
		{Head: "Components there", Spare: 1, Cut: view.CutEnd},
	}, rows)
	if len(shown) < len(list) {
		a.Say("%s", view.Faint(fmt.Sprintf("and %s more; --verbose lists all", view.Comma(len(list)-len(shown)))))
	}
	if best.Extra > 0 {
		a.Say("%s beside them%s not in %s.", view.Count(best.Extra, "file"), view.AreIs(best.Extra), best.Build.Label)
	}
	for _, o := range found.Origins {
		files := ""
		if len(o.Files) == 1 {
			files = " (" + o.Files[0] + ")"
		}
		a.Say("%s%s%s as in %s (%s).", view.Count(len(o.Files), "file"), files, view.AreIs(len(o.Files)), view.Strong(o.Build.Label), o.Build.Line())
	}
	if best.Exact() {
		return
	}
	for _, group := range []struct {
		word  string
		paths []string
	}{{"altered", best.Altered}, {"missing", best.Missing}} {
		for i, p := range group.paths {
			if i == view.Few && !c.Bool("verbose") {
				a.Say("  %s", view.Faint(fmt.Sprintf("and %s more %s; --verbose lists all", view.Comma(len(group.paths)-view.Few), group.word)))
				break
			}
			a.Say("  %s  %s", view.Paint(view.Bad, group.word), p)
		}
	}
}
