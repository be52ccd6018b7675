package help

import (
	"context"
	_ "embed"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/block"
	"morvant/internal/catalogue"
	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/exchange"
	"morvant/internal/game"
	"morvant/internal/ref"
	"morvant/internal/state"
)

// complete suggests what may come next on a command line: commands and flags, and
// games, builds and lanes as they are on this computer. The shell's script takes what
// fits from a line "word:description" each.
func (a commands) complete(ctx context.Context, c *cli.Command) {
	before := wordBefore(a.Args)
	if words, of := values[before]; of {
		for _, w := range words {
			fmt.Fprintln(a.Stdout, w)
		}
		return
	}
	if list := ofOption[before]; list != nil {
		a.completeFrom(ctx, c, list)
		return
	}
	cli.DefaultCompleteWithFlags(ctx, c)
	if strings.HasPrefix(before, "-") {
		return
	}
	words := strings.FieldsFunc(c.ArgsUsage, func(r rune) bool { return !(r >= 'A' && r <= 'Z') })
	at := c.Args().Len()
	if strings.HasSuffix(c.ArgsUsage, "...") || strings.HasSuffix(c.ArgsUsage, "...]") {
		at = min(at, len(words)-1)
	}
	if at < 0 || at >= len(words) {
		return
	}
	name := strings.TrimPrefix(c.FullName(), "morvant ")
	if list := ofCommand[name+" "+words[at]]; list != nil {
		a.completeFrom(ctx, c, list)
	} else if list := ofWord[words[at]]; list != nil {
		a.completeFrom(ctx, c, list)
	}
}

// values are those of options that take one of a few words.
var values = map[string][]string{
	"--then": {"pin", "back", "stay"}, "--color": {"auto", "always", "never"}, "--conflict": {"ask", "newer", "theirs", "mine"},
	"--format": exchange.Formats(),
}

// lister lists what may stand in one place of a command line.
type lister func(ctx context.Context, home *game.Home, name string) []suggestion

// ofOption says what may follow an option.
var ofOption = map[string]lister{
	"--like": laneNames, "--with": laneNames, "--from": both(buildNames, lanesAsBuilds), "--to": buildNames, "--overlay": buildNames,
	"--channel": channelNames,
}

// ofWord says what may stand for a word of help, and ofCommand where one command is stricter.
var (
	ofWord = map[string]lister{
		"BUILD": buildNames, "A": both(here, buildNames), "B": both(here, buildNames), "LANE": laneNames, "FEED": feedNames, "CHANNEL": lockedChannels, "PRESET": presetNames,
	}
	ofCommand = map[string]lister{
		"carry FROM": both(lanesAsBuilds, snapshotNames), "builds forget BUILD": recordedNames, "export BUILD": buildNames,
		"undo NUMBER": changeNumbers, "history output NUMBER": changeNumbers, "saves restore NUMBER": backupNumbers, "saves forget NUMBER": backupNumbers,
	}
)

// both lists what several list.
func both(listers ...lister) lister {
	return func(ctx context.Context, home *game.Home, name string) []suggestion {
		var list []suggestion
		for _, l := range listers {
			list = append(list, l(ctx, home, name)...)
		}
		return list
	}
}

// ownScripts are for the shells in which the library's scripts do what they should not: that
// for bash evaluates what is half typed, that for PowerShell as well, and completes nothing
// that has been begun.
var ownScripts = map[string]*string{"bash": &bash, "pwsh": &powerShell}

//go:embed completion.bash
var bash string

//go:embed completion.ps1
var powerShell string

// completionScripts makes the library's command for the shells' scripts ours, with help of
// the same kind as elsewhere.
func (a commands) completionScripts(c *cli.Command) {
	c.Hidden, c.Category, c.Usage = false, app.GroupHelp, "write the script that lets a shell complete commands, games, builds and lanes: bash, zsh, fish, pwsh"
	c.Description = "Example: morvant completion bash > ~/.local/share/bash-completion/completions/morvant\n\n" +
		"bash, for this window only:   source <(morvant completion bash)\n" +
		"zsh, in ~/.zshrc:             source <(morvant completion zsh)     (after compinit)\n" +
		"fish:                         morvant completion fish > ~/.config/fish/completions/morvant.fish\n" +
		"PowerShell, in $PROFILE:      morvant completion pwsh | Out-String | Invoke-Expression"
	c.Action = func(_ context.Context, c *cli.Command) error {
		if c.Args().Present() {
			return app.Usagef("there is no script for \"%s\"; there are bash, zsh, fish and pwsh", c.Args().First())
		}
		return cli.ShowSubcommandHelp(c)
	}
	for _, shell := range c.Commands {
		shell.Usage = "write the script for " + shell.Name
		if script := ownScripts[shell.Name]; script != nil {
			shell.Action = func(context.Context, *cli.Command) error {
				_, err := fmt.Fprint(a.Stdout, *script)
				return err
			}
		}
	}
}

// completionFlag ends the command line that a shell's script asks with.
const completionFlag = "--generate-shell-completion"

// Completable makes a command line out of one that asks for the value of a global
// flag, which cannot be read as it stands.
func Completable(args []string) []string {
	if len(args) < 3 || args[len(args)-1] != completionFlag {
		return args
	}
	kind := map[string]string{"-g": "games", "--game": "games", "-l": "lanes", "--lane": "lanes"}[args[len(args)-2]]
	if kind == "" {
		return args
	}
	return append(slices.Clone(args[:len(args)-2]), "values", kind)
}

func (a commands) valuesCommand() *cli.Command {
	return &cli.Command{
		Name: "values", Hidden: true, Usage: "list games or lanes for a shell's completion", Description: "Example: morvant values games",
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().First() == "lanes" {
				a.completeFrom(ctx, c, laneNames)
			} else {
				a.completeFrom(ctx, c, gameNames)
			}
			return nil
		},
	}
}

// wordBefore returns the word before the one that is being completed.
func wordBefore(args []string) string {
	if len(args) < 2 {
		return ""
	}
	return args[len(args)-2]
}

// suggestion is a word and what it means.
type suggestion struct{ word, about string }

// completeFrom suggests what is known on this computer. Trouble means no suggestion: a
// message would land in the middle of what is being typed.
func (a commands) completeFrom(ctx context.Context, c *cli.Command, list lister) {
	home, err := a.Home(ctx, c)
	if err != nil {
		return
	}
	defer home.Close()
	name, _ := a.ChooseGame(ctx, home, c)
	for _, s := range list(ctx, home, name) {
		fmt.Fprintf(a.Stdout, "%s:%s\n", s.word, s.about)
	}
}

func gameNames(_ context.Context, home *game.Home, _ string) []suggestion {
	var list []suggestion
	known, _, err := home.Games()
	if err != nil {
		return nil
	}
	for _, g := range known {
		list = append(list, suggestion{g.Name, g.Display()})
	}
	return list
}

func laneNames(ctx context.Context, home *game.Home, name string) []suggestion {
	var list []suggestion
	known, err := home.Lanes(ctx, name)
	if err != nil {
		return nil
	}
	for _, l := range known {
		about := "parked"
		if l.Live {
			about = "live"
		}
		list = append(list, suggestion{l.Name, about})
	}
	return list
}

func buildNames(ctx context.Context, home *game.Home, name string) []suggestion {
	var list []suggestion
	for _, w := range ref.Words {
		if w[0] != state.Here {
			list = append(list, suggestion{w[0], w[1]})
		}
	}
	return append(list, labels(ctx, home, name, func(b *state.Build) bool { return !b.Fragment })...)
}

func here(context.Context, *game.Home, string) []suggestion {
	for _, w := range ref.Words {
		if w[0] == state.Here {
			return []suggestion{{w[0], w[1]}}
		}
	}
	return nil
}

// labels lists the builds for which a condition holds.
func labels(ctx context.Context, home *game.Home, name string, fits func(*state.Build) bool) []suggestion {
	known, err := home.Builds(ctx, name)
	if err != nil {
		return nil
	}
	var list []suggestion
	for _, b := range known {
		if fits(b) {
			list = append(list, suggestion{b.Label, b.Line() + " " + view.Day(b.Made)})
		}
	}
	return list
}

func snapshotNames(ctx context.Context, home *game.Home, name string) []suggestion {
	return labels(ctx, home, name, func(b *state.Build) bool { return b.Components == nil })
}

// recordedNames lists the builds of which something is recorded here.
func recordedNames(ctx context.Context, home *game.Home, name string) []suggestion {
	recorded, err := home.Recorded(ctx, name)
	if err != nil {
		return nil
	}
	return labels(ctx, home, name, func(b *state.Build) bool { return slices.ContainsFunc(recorded, b.Same) })
}

func lanesAsBuilds(ctx context.Context, home *game.Home, name string) []suggestion {
	var list []suggestion
	for _, l := range laneNames(ctx, home, name) {
		list = append(list, suggestion{catalogue.LaneLine + "/" + l.word, l.about})
	}
	return list
}

func feedNames(_ context.Context, home *game.Home, name string) []suggestion {
	feeds, err := home.Feeds(name)
	if err != nil {
		return nil
	}
	var list []suggestion
	for _, f := range feeds {
		list = append(list, suggestion{f.Name, strings.Join(f.Addresses, " ")})
	}
	return list
}

func channels(home *game.Home, name string, locked bool) []suggestion {
	feeds, err := home.Feeds(name)
	if err != nil {
		return nil
	}
	var list []suggestion
	for _, f := range feeds {
		described, err := f.Described()
		if err != nil {
			continue
		}
		for _, c := range described.Channels {
			if c.Locked || !locked {
				list = append(list, suggestion{c.Name, f.Name})
			}
		}
	}
	return list
}

func channelNames(_ context.Context, home *game.Home, name string) []suggestion {
	return append(channels(home, name, false), suggestion{state.SnapshotLine, "what was recorded here"})
}

func lockedChannels(_ context.Context, home *game.Home, name string) []suggestion {
	return channels(home, name, true)
}

func presetNames(_ context.Context, home *game.Home, _ string) []suggestion {
	known, err := block.Presets(filepath.Join(home.Dir(), "presets"))
	if err != nil {
		return nil
	}
	var list []suggestion
	for _, p := range known {
		list = append(list, suggestion{p.Name, p.About})
	}
	return list
}

func changeNumbers(ctx context.Context, home *game.Home, name string) []suggestion {
	is, err := home.LaneName(ctx, name)
	if err != nil {
		return nil
	}
	known, err := home.History(ctx, name, is)
	if err != nil {
		return nil
	}
	var list []suggestion
	for _, h := range known {
		if h.Undone == 0 {
			list = append(list, suggestion{fmt.Sprint(h.ID), view.Change(h) + " " + view.Day(h.Made)})
		}
	}
	return list
}

func backupNumbers(ctx context.Context, home *game.Home, name string) []suggestion {
	known, err := home.Backups(ctx, name)
	if err != nil {
		return nil
	}
	var list []suggestion
	for _, b := range known {
		list = append(list, suggestion{fmt.Sprint(b.ID), view.Day(b.Made) + " " + b.Why})
	}
	return list
}
