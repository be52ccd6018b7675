// Package help has the help topics, the manual page, and completion.
package help

import (
	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
)

// commands are the commands of this group, of one run of the program.
type commands struct{ *app.App }

// Commands returns them.
func Commands(run *app.App) []*cli.Command {
	a := commands{run}
	return []*cli.Command{a.helpCommand(), a.manCommand(), a.valuesCommand()}
}

// Complete completes the words of a command line.
func Complete(run *app.App) cli.ShellCompleteFunc { return commands{run}.complete }

// CompletionScripts puts the scripts of the shells into the command that writes them.
func CompletionScripts(run *app.App) cli.ConfigureShellCompletionCommand {
	return commands{run}.completionScripts
}
