// Package games registers games, lists them, and changes their settings.
package games

import (
	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
)

// commands are the commands of this group, of one run of the program.
type commands struct{ *app.App }

// Commands returns them.
func Commands(run *app.App) []*cli.Command {
	a := commands{run}
	return []*cli.Command{a.addCommand(), a.gamesCommand(), a.gameCommand(), a.rescueCommand()}
}
