package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"morvant/internal/lane/guard"

	"github.com/urfave/cli/v3"

	"morvant/internal/block"
	"morvant/internal/game"
	"morvant/internal/lane"
)

func (a *app) blockCommand() *cli.Command {
	return &cli.Command{
		Name: "block", Usage: "keep the launcher from updating the game", Category: groupPin,
		Description: "Example: morvant block add staging-folder path=~/.launcher/staging\n         morvant block\n         morvant block --show\n\n" +
			"Sets the block rules in the game's settings; pin does so by itself. Each rule notes what it found, and unblock\n" +
			"puts exactly that back. --explain says what each rule does, and what none of them can do.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "show", Usage: "say how each rule stands, and change nothing"},
			&cli.BoolFlag{Name: "explain", Usage: "say in plain words what each rule does"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := arguments(c, 0, 0); err != nil {
				return err
			}
			return a.withLane(ctx, c, func(l *lane.Lane, home *game.Home) error { return a.block(ctx, c, l) })
		},
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "add the rules of a preset to the game's settings", ArgsUsage: "PRESET [NAME=VALUE...]",
				Description: "Example: morvant block add key-value-setting file=~/.launcher/state.cfg key=updates value=by-hand\n\n" +
					"morvant block presets lists what there is. They are set with the next pin, or by morvant block.",
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := arguments(c, 1, 16)
					if err != nil {
						return err
					}
					return a.withGame(ctx, c, func(home *game.Home, name string) error { return a.addBlock(c, home, name, args[0], args[1:]) })
				},
			},
			{
				Name: "presets", Usage: "list the presets: rules by kind of launcher",
				Description: "Example: morvant block presets\n\nYour own are TOML files in the folder presets of Morvant's home.",
				Action:      a.onHome(func(_ context.Context, c *cli.Command, home *game.Home) error { return a.showPresets(c, home) }),
			},
		},
	}
}

func (a *app) unblockCommand() *cli.Command {
	return &cli.Command{
		Name: "unblock", Usage: "let the launcher update again: put back what the block found", Category: groupPin,
		Description: "Example: morvant unblock\n\nWhat somebody has changed since is named, and put back only after asking, or with --force.",
		Flags:       []cli.Flag{forceFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := arguments(c, 0, 0); err != nil {
				return err
			}
			return a.withLane(ctx, c, func(l *lane.Lane, _ *game.Home) error {
				if err := a.unblock(ctx, c, l); err != nil {
					return err
				}
				return a.done(c, l.Game.Display()+" is not blocked; everything is as it was found.")
			})
		},
	}
}

// unblock takes the block off; where somebody has changed something since, it asks.
func (a *app) unblock(ctx context.Context, c *cli.Command, l *lane.Lane) error {
	err := guard.Unblock(ctx, l, c.Bool("force"))
	if !errors.Is(err, block.ErrTouched) {
		return err
	}
	a.note("%s", oneLine(err))
	if answer := a.ask(c, "Put back what the block found there all the same?"); answer != nil {
		return errors.Join(err, answer)
	}
	return guard.Unblock(ctx, l, true)
}

func forceFlag() cli.Flag {
	return &cli.BoolFlag{Name: "force", Usage: "put back also what somebody has changed since it was blocked"}
}

func presetsDir(home *game.Home) string { return filepath.Join(home.Dir(), "presets") }

func (a *app) addBlock(c *cli.Command, home *game.Home, name, preset string, pairs []string) error {
	list, err := block.Presets(presetsDir(home))
	if err != nil {
		return err
	}
	var names []string
	for _, p := range list {
		names = append(names, p.Name)
		if p.Name != preset {
			continue
		}
		values := make(map[string]string)
		for _, pair := range pairs {
			k, v, ok := strings.Cut(pair, "=")
			if !ok {
				return usagef("%q is not NAME=VALUE", pair)
			}
			values[k] = v
		}
		rules, err := p.Fill(values)
		if err != nil {
			return usage{err}
		}
		if _, err := home.AddBlockRules(name, rules); err != nil {
			return err
		}
		for _, r := range rules {
			a.note("Added: %s.", r.Describe())
		}
		return a.done(c, "The rules are in "+home.SettingsFile(name)+"; set them with morvant block, or pin.")
	}
	return usagef("there is no preset %q, only %s", preset, strings.Join(names, ", "))
}

func (a *app) showPresets(c *cli.Command, home *game.Home) error {
	list, err := block.Presets(presetsDir(home))
	if err != nil {
		return err
	}
	type presetJSON struct {
		Preset string   `json:"preset"`
		About  string   `json:"about"`
		Needs  []string `json:"needs"`
	}
	out := []presetJSON{}
	var rows [][]string
	for _, p := range list {
		out = append(out, presetJSON{p.Name, p.About, append([]string{}, p.Needs...)})
		rows = append(rows, []string{p.Name, strings.Join(p.Needs, ", "), p.About})
	}
	if c.Bool("json") {
		return a.emit(struct {
			Schema  string       `json:"schema"`
			Presets []presetJSON `json:"presets"`
		}{"morvant-presets/1", out})
	}
	a.say("%s", a.fitted([]string{"Preset", "Needs", "For"}, rows))
	return nil
}

type blockJSON struct {
	Kind  string `json:"kind"`
	On    string `json:"on,omitempty"`
	Holds bool   `json:"holds"`
	Broke string `json:"broke,omitempty"`
	Left  int    `json:"left_alone,omitempty"` // files with other names elsewhere
}

func toBlockJSON(list []block.State) []blockJSON {
	out := []blockJSON{}
	for _, s := range list {
		out = append(out, blockJSON{s.Rule.Kind, s.Rule.File + s.Rule.Path, s.Holds, s.Broke, s.Left})
	}
	return out
}

func (a *app) block(ctx context.Context, c *cli.Command, l *lane.Lane) error {
	if len(l.Game.Block) == 0 {
		return errNoRules
	}
	if c.Bool("explain") {
		a.explainBlock(l)
		return nil
	}
	if !c.Bool("show") {
		if err := guard.Block(ctx, l); err != nil {
			return err
		}
	}
	states, err := guard.States(ctx, l)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.emit(struct {
			Schema string      `json:"schema"`
			Game   string      `json:"game"`
			Rules  []blockJSON `json:"rules"`
		}{"morvant-block/1", l.Game.Name, toBlockJSON(states)})
	}
	var rows [][]string
	for _, s := range states {
		how := paint(good, "holds")
		if !s.Holds {
			how = paint(bad, "does not hold")
		}
		rows = append(rows, []string{s.Rule.Kind, how, firstNonEmpty(s.Broke, s.Rule.Describe()+leftAlone(s.Left))})
	}
	a.say("%s", a.fitted([]string{"Rule", "State", "What"}, rows))
	return nil
}

// leftAlone says what a rule does not cover.
func leftAlone(n int) string {
	switch n {
	case 0:
		return ""
	case 1:
		return "; 1 file has other names elsewhere (hard links) and is left alone"
	}
	return fmt.Sprintf("; %s files have other names elsewhere (hard links) and are left alone", comma(n))
}

var errNoRules = errors.New("the game has no block rules")

func firstNonEmpty(list ...string) string {
	for _, s := range list {
		if s != "" {
			return s
		}
	}
	return ""
}

func (a *app) explainBlock(l *lane.Lane) {
	a.say("What keeps updates away from %s:", strong(l.Game.Display()))
	for _, r := range l.Game.Block {
		a.say("  %-10s %s.", r.Kind, r.Describe())
	}
	a.say("")
	a.say("Each rule notes what it found, and unblock puts exactly that back. Mods, saves and other files of yours are")
	a.say("not touched. Morvant does nothing between its commands: a launcher that rewrites its own setting is noticed by")
	a.say("the next status. An updater with administrator's rights can write anything; against that only the launcher's own")
	a.say("setting helps, or starting the game without its launcher.")
}

// blockLine sums up the block for status.
func blockLine(states []block.State) string {
	broken := 0
	for _, s := range states {
		if !s.Holds {
			broken++
		}
	}
	switch {
	case len(states) == 0:
		return ""
	case broken == 0:
		return paint(good, "blocked") + fmt.Sprintf(" (%s)", count(len(states), "rule"))
	case broken == len(states):
		return paint(bad, "not blocked") + "; set it with morvant block"
	}
	return paint(bad, fmt.Sprintf("%d of %s broken", broken, count(len(states), "block rule"))) + "; see morvant block --show"
}
