package help

import (
	"context"
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/ref"
)

// complete suggests what may come next on a command line: commands and flags, and
// games, builds and lanes as they are on this computer. The shell's script takes what
// fits from a line "word:description" each.
func (a commands) complete(ctx context.Context, c *cli.Command) {
	switch before := wordBefore(a.Args); before {
	case "--like", "--with":
		a.completeFrom(ctx, c, laneNames)
	case "--from", "--to", "--overlay":
		a.completeFrom(ctx, c, buildNames)
	default:
		cli.DefaultCompleteWithFlags(ctx, c)
		if strings.HasPrefix(before, "-") {
			return
		}
		words := strings.FieldsFunc(c.ArgsUsage, func(r rune) bool { return !(r >= 'A' && r <= 'Z') })
		at := c.Args().Len()
		if at < len(words) {
			switch words[at] {
			case "BUILD", "A", "B", "FROM":
				a.completeFrom(ctx, c, buildNames)
			case "LANE":
				a.completeFrom(ctx, c, laneNames)
			}
		}
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
	c.Hidden, c.Category, c.Usage = false, app.GroupHelp, "write what makes a shell complete commands, games, builds and lanes: bash, zsh, fish, pwsh"
	c.Description = "Example: morvant completion bash > ~/.local/share/bash-completion/completions/morvant\n\n" +
		"bash, for this window only:   source <(morvant completion bash)\n" +
		"zsh, in ~/.zshrc:             source <(morvant completion zsh)     (after compinit)\n" +
		"fish:                         morvant completion fish > ~/.config/fish/completions/morvant.fish\n" +
		"PowerShell, in $PROFILE:      morvant completion pwsh | Out-String | Invoke-Expression"
	c.Action = func(_ context.Context, c *cli.Command) error {
		if c.Args().Present() {
			return app.Usagef("there is no script for %q; there are bash, zsh, fish and pwsh", c.Args().First())
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
func (a commands) completeFrom(ctx context.Context, c *cli.Command, list func(context.Context, *game.Home, string) []suggestion) {
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
		list = append(list, suggestion{w[0], w[1]})
	}
	known, err := home.Builds(ctx, name)
	if err != nil {
		return nil
	}
	for _, b := range known {
		list = append(list, suggestion{b.Label, b.Line() + " " + view.Day(b.Made)})
	}
	return list
}
