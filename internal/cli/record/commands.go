// Package record records builds and compares them: snapshot, builds, identify, diff, status, verify, why.
package record

import (
	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
)

// commands are the commands of this group, of one run of the program.
type commands struct{ *app.App }

// Commands returns them.
func Commands(run *app.App) []*cli.Command {
	a := commands{run}
	return []*cli.Command{a.snapshotCommand(), a.buildsCommand(), a.identifyCommand(), a.diffCommand(), a.statusCommand(), a.verifyCommand(), a.whyCommand()}
}
