// Package installs has the commands for several installs of a game.
package installs

import (
	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
)

// commands are the commands of this group, of one run of the program.
type commands struct{ *app.App }

// Commands returns them.
func Commands(run *app.App) []*cli.Command {
	a := commands{run}
	return []*cli.Command{a.laneCommand(), a.carryCommand()}
}
