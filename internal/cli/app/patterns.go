package app

import (
	"context"
	"os"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/view"
	"morvant/internal/rules"
	"morvant/internal/scan"
)

// Patterns returns the patterns that a flag was given, as they are meant: see rules.Typed. folders are those of the game.
func Patterns(c *cli.Command, flag string, folders ...string) []string {
	var list []string
	for _, typed := range c.StringSlice(flag) {
		list = append(list, rules.Typed(typed, folders...))
	}
	return list
}

// NoteIdle says which patterns that have just been given match nothing in a game's folder: most likely one is misspelled.
// r says whether letter case counts.
func (a *App) NoteIdle(ctx context.Context, dir string, r rules.Rules, what string, patterns []string) {
	if len(patterns) == 0 {
		return
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return // said where it matters
	}
	defer root.Close()
	t, err := scan.Walk(ctx, root, rules.Rules{IgnoreCase: r.IgnoreCase})
	if err != nil {
		return
	}
	for _, p := range patterns {
		set, matches := r.Set([]string{p}), false
		for i := range t.Entries {
			if matches = set.Match(t.Entries[i].Path); matches {
				break
			}
		}
		if !matches {
			a.Note("Note: the %s rule %s matches nothing in %s now. Is it spelled as the files are?", what, view.Quoted(p), dir)
		}
	}
}
