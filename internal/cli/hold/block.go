package hold

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"morvant/internal/block"
	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/guard"
	"morvant/internal/problem"
	"morvant/internal/state"
)

func (a commands) blockCommand() *cli.Command {
	return &cli.Command{
		Name: "block", Usage: "keep the launcher from updating the game", Category: app.GroupPin,
		Description: "Example: morvant block add staging-folder path=~/.launcher/staging\n         morvant block\n         morvant block --show\n\n" +
			"Applies the block rules in the game's settings; pin does so by itself. Each rule notes what it found, and unblock\n" +
			"restores exactly that. --explain tells what each rule does, and what no rule can do.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "show", Usage: "show the state of each rule, and change nothing"},
			&cli.BoolFlag{Name: "explain", Usage: "explain what each rule does"},
			whenClosed,
		},
		Action: a.OnLane(app.ToLook, 0, 0, func(ctx context.Context, c *cli.Command, l *lane.Lane, _ []string) error {
			return a.block(ctx, c, l)
		}),
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "add the rules of a preset to the game's settings", ArgsUsage: "PRESET [NAME=VALUE...]",
				Description: "Example: morvant block add key-value-setting file=~/.launcher/state.cfg key=updates value=by-hand\n\n" +
					"morvant block presets lists the presets. The next pin applies the rules, or morvant block does.",
				Action: a.OnGame(1, 16, func(ctx context.Context, c *cli.Command, home *game.Home, name string, args []string) error {
					return a.addBlock(c, home, name, args[0], args[1:])
				}),
			},
			{
				Name: "remove", Usage: "remove a rule from the game's settings, and take it off", ArgsUsage: "NUMBER",
				Description: "Example: morvant block remove 1\n\nThe numbers are those of morvant block --show. What the rule found is put back.",
				Action:      a.removeBlock,
			},
			{
				Name: "presets", Usage: "list the presets: rules by kind of launcher",
				Description: "Example: morvant block presets\n\nYour own are TOML files in the folder presets of Morvant's home.",
				Action:      a.OnHome(func(_ context.Context, c *cli.Command, home *game.Home) error { return a.showPresets(c, home) }),
			},
		},
	}
}

func (a commands) unblockCommand() *cli.Command {
	return &cli.Command{
		Name: "unblock", Usage: "let the launcher update again: restore what the block found", Category: app.GroupPin,
		Description: "Example: morvant unblock\n\nNames what somebody has changed since, and restores that only after a question, or with --force.",
		Flags:       append(app.ChangeFlags(), app.ForceFlag(), whenClosed),
		Action: a.OnLane(app.ToLook, 0, 0, func(ctx context.Context, c *cli.Command, l *lane.Lane, _ []string) error {
			if c.Bool("dry-run") {
				return sayUnblock(ctx, a.App, c, l)
			}
			waited, err := a.launcherClosed(ctx, c, l)
			if err != nil {
				return err
			}
			if err := a.takeOver(ctx, c, l); err != nil {
				return err
			}
			whole, err := a.unblock(ctx, c, l)
			if waited && err == nil {
				if err = aMoment(ctx); err == nil {
					_, err = guard.Unblock(ctx, l, false)
				}
			}
			// Nobody sets it again behind the player's back, whatever has come off.
			if err := errors.Join(err, l.Home.SetOpen(ctx, l.Game.Name, l.Name, true)); err != nil {
				return err
			}
			if pin, err := l.Home.Pin(ctx, l.Game.Name, l.Name); err != nil {
				return err
			} else if pin.Held() && len(l.Game.Block) > 0 {
				a.Note("Updates are let in until you run morvant block or pin again.")
			}
			if !whole {
				return a.Done(c, l.Game.Display()+" is no longer blocked by Morvant; the notes above name what was not restored.")
			}
			return a.Done(c, l.Game.Display()+" is not blocked; everything is as the block found it.")
		}),
	}
}

// takeOver takes a block over that another Morvant has set here, as a note in the folder says: that may be anybody's, so that what it
// says of places outside of the folder is believed after a question only.
func (a commands) takeOver(ctx context.Context, c *cli.Command, l *lane.Lane) error {
	holds, err := l.Home.Applied(ctx, l.Game.Name, l.Name)
	if err != nil || len(holds) > 0 || l.Root == nil {
		return err
	}
	n := guard.NoteIn(l.Root)
	if n == nil {
		return nil
	}
	a.Note("A note in the folder says that another Morvant has set a block here, of %s.", view.Count(len(n.Applied), "rule"))
	outside := n.Outside(l.Dir)
	for _, p := range outside {
		a.Note("It says that this has changed %s.", p)
	}
	switch {
	case len(outside) == 0 || c.Bool("force"):
	case !a.Interactive():
		return app.Refusef("if it was your own Morvant that did, add --force; else see morvant rescue")
	default:
		if err := a.Question("Was it your own Morvant, and may what was there before be put back?"); err != nil {
			return err
		}
	}
	return n.TakeOver(ctx, l)
}

// sayUnblock says what would be taken off.
func sayUnblock(ctx context.Context, a *app.App, c *cli.Command, l *lane.Lane) error {
	states, err := guard.States(ctx, l)
	if err != nil {
		return err
	}
	set := 0
	for _, s := range states {
		if s.Broke != block.NotSet {
			set++
		}
	}
	if set == 0 {
		return a.Done(c, l.Game.Display()+" is not blocked; there is nothing to take off.")
	}
	return a.Done(c, fmt.Sprintf("This was a dry run; nothing was changed. It would take off %s and put back what was found.", view.Count(set, "block rule")))
}

// unblock takes the block off; where somebody has changed something since, it asks. It reports
// whether everything is as it was found; what is not is told.
func (a commands) unblock(ctx context.Context, c *cli.Command, l *lane.Lane) (whole bool, err error) {
	left, err := guard.Unblock(ctx, l, c.Bool("force"))
	if errors.Is(err, block.ErrTouched) {
		a.Note("%s", view.OneLine(err))
		if answer := a.Ask(c, "Restore what the block found there anyway?"); answer != nil {
			return false, errors.Join(err, answer)
		}
		left, err = guard.Unblock(ctx, l, true)
	} else if err != nil {
		a.Note("Note: morvant unblock --force gives up what cannot be restored, and tells what it was.")
	}
	for _, text := range left {
		a.Note("Note: %s.", text)
	}
	return len(left) == 0, err
}

// whenClosed has a command wait for the launcher.
var whenClosed = &cli.BoolFlag{Name: "when-closed", Usage: "wait until the launcher (game set --launcher) is closed"}

// launcherClosed sees to it that no launcher writes over what is about to be changed. It reports
// whether one had to be waited for.
func (a commands) launcherClosed(ctx context.Context, c *cli.Command, l *lane.Lane) (waited bool, err error) {
	err = guard.LauncherClosed(l)
	if !errors.Is(err, guard.ErrLauncherRuns) {
		return false, err
	}
	if !c.Bool("when-closed") {
		if c.Bool("force") {
			a.Note("Note: %s.", view.OneLine(err))
			return false, nil
		}
		return false, err
	}
	a.Note("Waiting: %s.", view.OneLine(err))
	return true, guard.WhenClosed(ctx, l)
}

// aMoment waits until a second look is worth it: a launcher that has just ended may have left
// somebody behind who still writes.
func aMoment(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(time.Second):
		return nil
	}
}

func presetsDir(home *game.Home) string { return filepath.Join(home.Dir(), "presets") }

func (a commands) addBlock(c *cli.Command, home *game.Home, name, preset string, pairs []string) error {
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
				return app.Usagef("\"%s\" is not NAME=VALUE", pair)
			}
			values[k] = v
		}
		rules, err := p.Fill(values)
		if err != nil {
			return app.AsUsage(err)
		}
		if err := a.tryRules(home, name, rules); err != nil {
			return err
		}
		if _, err := home.AddBlockRules(name, rules); err != nil {
			return err
		}
		for _, r := range rules {
			a.Note("Added: %s.", r.Describe())
		}
		return a.Done(c, "The rules are in "+home.SettingsFile(name)+"; apply them with morvant block or the next pin.")
	}
	return app.Usagef("there is no preset \"%s\", only %s", preset, strings.Join(names, ", "))
}

// tryRules refuses rules that can never be set, such as one with a value of another type than the launcher's file has, and says
// what is not there yet.
func (a commands) tryRules(home *game.Home, name string, rules []block.Rule) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	at := block.Site{Dir: g.Live}
	at.Home, _ = os.UserHomeDir()
	for _, r := range rules {
		h, err := block.Prepare(r, at)
		switch {
		case errors.Is(err, block.ErrRule):
			return app.AsUsage(fmt.Errorf("%s: %w", r.Key, err))
		case err != nil:
			a.Note("Note: right now it cannot be set: %s.", view.OneLine(err))
		case h.Missing:
			a.Note("Note: %s is not in %s yet; the block adds it. Is it called so there?", r.Key, h.Path)
		}
	}
	return nil
}

// removeBlock takes a rule out of the settings, and off.
func (a commands) removeBlock(ctx context.Context, c *cli.Command) (err error) {
	args, err := app.Arguments(c, 1, 1)
	if err != nil {
		return err
	}
	n, err := app.Number(args[0], "block rule", "block --show")
	if err != nil {
		return err
	}
	return a.WithLane(ctx, c, app.TheLiveOne, func(l *lane.Lane) error {
		if n < 1 || int(n) > len(l.Game.Block) {
			return &state.UnknownError{Kind: "block rule", Name: args[0]}
		}
		rule := l.Game.Block[n-1]
		if err := game.RemoveBlockRule(l.Home, l.Game.Name, int(n)-1); err != nil {
			return err
		}
		if err := guard.TakeOff(ctx, l, rule); err != nil {
			return err
		}
		return a.Done(c, "The rule is removed: Morvant no longer "+rule.Describe()+".")
	})
}

func (a commands) showPresets(c *cli.Command, home *game.Home) error {
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
		return a.Emit(struct {
			Schema  string       `json:"schema"`
			Presets []presetJSON `json:"presets"`
		}{"morvant-presets/1", out})
	}
	a.Table([]view.Column{
		{Head: "Preset"},
		{Head: "Needs", Cut: view.CutWrap},
		{Head: "For", Cut: view.CutWrap},
	}, rows)
	return nil
}

func (a commands) block(ctx context.Context, c *cli.Command, l *lane.Lane) error {
	if len(l.Game.Block) == 0 {
		return errNoRules
	}
	if c.Bool("explain") && !c.Bool("json") {
		a.explainBlock(l)
		return nil
	}
	if !c.Bool("show") && !c.Bool("explain") {
		if err := l.Home.SetOpen(ctx, l.Game.Name, l.Name, false); err != nil {
			return err
		}
		waited, err := a.launcherClosed(ctx, c, l)
		if err != nil {
			return err
		}
		if err := guard.Block(ctx, l); err != nil {
			return err
		}
		if waited {
			if err := aMoment(ctx); err != nil {
				return err
			}
			if err := guard.Block(ctx, l); err != nil {
				return err
			}
		}
	}
	states, err := guard.States(ctx, l)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.Emit(struct {
			Schema string           `json:"schema"`
			Game   string           `json:"game"`
			Rules  []view.BlockJSON `json:"rules"`
		}{"morvant-block/1", l.Game.Name, view.ToBlockJSON(states)})
	}
	var rows [][]string
	for _, s := range states {
		how := view.Paint(view.Good, "holds")
		if !s.Holds {
			how = view.Paint(view.Bad, "does not hold")
		}
		rows = append(rows, []string{number(l, s.Rule), s.Rule.Kind, how, view.FirstNonEmpty(view.Broke(s), s.Rule.Describe()+view.LeftAlone(s.Left))})
	}
	a.Table([]view.Column{
		{Head: "No", Right: true},
		{Head: "Rule"},
		{Head: "State"},
		{Head: "What", Cut: view.CutWrap},
	}, rows)
	return nil
}

// number is that of a rule in the game's settings; a dash: it is not in them any more.
func number(l *lane.Lane, r block.Rule) string {
	if i := slices.Index(l.Game.Block, r); i >= 0 {
		return fmt.Sprint(i + 1)
	}
	return "–"
}

var errNoRules = problem.New("the game has no block rules", "Add some: morvant block presets lists the presets, morvant block add adds one")

func (a commands) explainBlock(l *lane.Lane) {
	a.Say("What keeps updates away from %s:", view.Strong(l.Game.Display()))
	for _, r := range l.Game.Block {
		a.Say("  %-10s %s.", r.Kind, r.Describe())
	}
	a.Say("")
	a.Say("Each rule notes what it found, and unblock restores exactly that. Mods, saves and your other files are")
	a.Say("not touched. Morvant does nothing between its commands: the next status notices a launcher that rewrites its")
	a.Say("own setting. An updater with administrator's rights can write anything; against that only the launcher's own")
	a.Say("setting helps, or starting the game without the launcher.")
}
