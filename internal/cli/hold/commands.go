// Package hold holds a game at a build, takes that back, and keeps updates away.
package hold

import (
	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
)

// commands are the commands of this group, of one run of the program.
type commands struct{ *app.App }

// Commands returns them.
func Commands(run *app.App) []*cli.Command {
	a := commands{run}
	return []*cli.Command{a.pinCommand(), a.unpinCommand(), a.undoCommand(), a.historyCommand(), a.blockCommand(), a.unblockCommand(), a.launchCommand(), a.watchCommand(), a.letUpdateCommand()}
}
