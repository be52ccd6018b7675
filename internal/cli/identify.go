package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/lane/compose"

	"github.com/urfave/cli/v3"

	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/scan"
	"morvant/internal/store"
)

func (a *app) identifyCommand() *cli.Command {
	return &cli.Command{
		Name: "identify", Usage: "which known build is this folder?", ArgsUsage: "[FOLDER]", Category: groupRecord,
		Description: "Example: morvant identify ~/Downloads/\"Cinder Quay copy\"\n\n" +
			"Compares content with every build that is known, snapshots and what feeds offer. Without FOLDER it is the\n" +
			"live folder. Nothing is changed.",
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, 0, 1)
			if err != nil {
				return err
			}
			return a.withGame(ctx, c, func(home *game.Home, name string) error { return a.identify(ctx, c, home, name, args) })
		},
	}
}

func (a *app) identify(ctx context.Context, c *cli.Command, home *game.Home, name string, args []string) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	dir := g.Live
	if len(args) == 1 {
		if dir, err = filepath.Abs(args[0]); err != nil {
			return err
		}
	}
	list, err := a.matches(ctx, home, g, dir)
	if err != nil {
		return err
	}
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
		return a.emit(toIdentifyJSON(name, dir, list, says))
	}
	a.showMatches(c, dir, list)
	builds, err := home.Builds(ctx, name)
	if err != nil {
		return err
	}
	a.showEvidence(list, says, builds)
	return nil
}

// showEvidence says what the game itself says, and where that is at odds with its
// content.
func (a *app) showEvidence(list []*identify.Match, says []identify.Evidence, builds []*game.Build) {
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
			text = paint(bad, text) + ", which its content does not bear out"
		}
		a.say("  %s", text)
	}
}

// matches compares a folder with everything known, and drops what is not like it
// at all.
func (a *app) matches(ctx context.Context, home *game.Home, g *game.Game, dir string) ([]*identify.Match, error) {
	s, err := store.Open(ctx, home.StoreDir())
	if err != nil {
		return nil, err
	}
	defer s.Close()
	known, err := compose.Known(ctx, home, s, g)
	if err != nil {
		return nil, err
	}
	cache, err := scan.OpenCache(ctx, home.CacheFile())
	if err != nil {
		return nil, err
	}
	defer cache.Close()
	all, err := identify.Folder(ctx, identify.Request{Dir: dir, Rules: g.Rules(), Known: known, Cache: cache, Meter: a.meter, Now: a.now})
	if err != nil {
		return nil, err
	}
	var list []*identify.Match
	for _, m := range all {
		if m.Same > 0 {
			list = append(list, m)
		}
	}
	return list, nil
}

type componentJSON struct {
	Component string `json:"component"`
	There     bool   `json:"there"`
	Files     int    `json:"files"`
	Same      int    `json:"same"`
}

type matchJSON struct {
	Build      string          `json:"build"`
	Channel    string          `json:"channel"`
	Digest     string          `json:"digest"`
	Exact      bool            `json:"exact"`
	Share      float64         `json:"share"`
	Files      int             `json:"files"`
	Same       int             `json:"same"`
	Altered    []string        `json:"altered"`
	Missing    []string        `json:"missing"`
	Extra      int             `json:"extra"`
	Components []componentJSON `json:"components"`
}

type evidenceJSON struct {
	Source string `json:"source"`
	Says   string `json:"says"`
}

func toIdentifyJSON(name, dir string, list []*identify.Match, says []identify.Evidence) any {
	evidence := []evidenceJSON{}
	for _, e := range says {
		evidence = append(evidence, evidenceJSON{e.Source, e.Says})
	}
	out := []matchJSON{}
	for _, m := range list {
		j := matchJSON{
			Build: m.Build.Label, Channel: m.Build.Line(), Digest: m.Build.Digest().String(), Exact: m.Exact(), Share: m.Share(),
			Files: m.Files, Same: m.Same, Altered: append([]string{}, m.Altered...), Missing: append([]string{}, m.Missing...), Extra: m.Extra,
			Components: []componentJSON{},
		}
		for _, comp := range m.Components {
			j.Components = append(j.Components, componentJSON{comp.Name, comp.There, comp.Files, comp.Same})
		}
		out = append(out, j)
	}
	return struct {
		Schema  string      `json:"schema"`
		Game    string      `json:"game"`
		Folder  string      `json:"folder"`
		Matches []matchJSON `json:"matches"`
		// Evidence is what the game itself says.
		Evidence []evidenceJSON `json:"evidence"`
	}{"morvant-identify/1", name, dir, out, evidence}
}

// percent writes a share so that only all of it is 100%.
func percent(share float64) string {
	if share < 1 && share > 0.999 {
		return "99.9%"
	}
	return fmt.Sprintf("%.1f%%", 100*share)
}

func (a *app) showMatches(c *cli.Command, dir string, list []*identify.Match) {
	if len(list) == 0 {
		a.say("%s is like no build that is known. morvant builds lists them; morvant feed add brings more.", dir)
		return
	}
	best := list[0]
	switch {
	case best.Exact():
		var same []string
		for _, m := range list {
			if m.Exact() {
				same = append(same, strong(m.Build.Label)+" ("+m.Build.Line()+")")
			}
		}
		a.say("%s is %s: %s, all as built.", dir, paint(good, strings.Join(same, " and ")), count(best.Same, "file"))
	default:
		a.say("%s is nearest to %s (%s): %s of it is there, %s of %s as built.",
			dir, strong(best.Build.Label), best.Build.Line(), percent(best.Share()), comma(best.Same), count(best.Files, "file"))
	}
	var rows [][]string
	shown := list
	if !c.Bool("verbose") {
		shown = list[:min(few, len(list))]
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
			parts += faint("; not " + strings.Join(not, ", "))
		}
		state := percent(m.Share())
		if m.Exact() {
			state = paint(good, "exact")
		}
		rows = append(rows, []string{m.Build.Label, m.Build.Line(), day(m.Build.Made), state, comma(m.Same), comma(len(m.Altered)), comma(len(m.Missing)), parts})
	}
	a.say("\n%s", grid([]string{"Build", "Channel", "Date", ">Match", ">As built", ">Altered", ">Missing", "Components there"}, rows))
	if len(shown) < len(list) {
		a.say("%s", faint(fmt.Sprintf("and %s more; --verbose lists all", comma(len(list)-len(shown)))))
	}
	if best.Extra > 0 {
		a.say("%s there is not of %s.", count(best.Extra, "file"), best.Build.Label)
	}
	if best.Exact() {
		return
	}
	for _, group := range []struct {
		word  string
		paths []string
	}{{"altered", best.Altered}, {"missing", best.Missing}} {
		for i, p := range group.paths {
			if i == few && !c.Bool("verbose") {
				a.say("  %s", faint(fmt.Sprintf("and %s more %s; --verbose lists all", comma(len(group.paths)-few), group.word)))
				break
			}
			a.say("  %s  %s", paint(bad, group.word), p)
		}
	}
}
