package help

import (
	"context"
	"embed"
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
)

//go:embed topics/*.txt
var topicFiles embed.FS

// topics lists what there is long help on.
func topics() []string {
	entries, err := topicFiles.ReadDir("topics")
	if err != nil {
		return nil
	}
	var names []string
	for _, e := range entries {
		names = append(names, strings.TrimSuffix(e.Name(), ".txt"))
	}
	return names
}

func (a commands) helpCommand() *cli.Command {
	return &cli.Command{
		Name: "help", Usage: "long help on a topic: " + strings.Join(topics(), ", "), ArgsUsage: "[TOPIC|COMMAND]", Category: app.GroupHelp,
		Description: "Example: morvant help builds\n\nWithout a topic it lists the commands; with a command it shows that command's help.",
		ShellComplete: func(context.Context, *cli.Command) {
			for _, name := range topics() {
				fmt.Fprintln(a.Stdout, name)
			}
		},
		Action: func(_ context.Context, c *cli.Command) error {
			args, err := app.Arguments(c, 0, 8)
			if err != nil {
				return err
			}
			if len(args) == 0 {
				return cli.ShowRootCommandHelp(c.Root())
			}
			if slices.Contains(topics(), args[0]) {
				text, err := topicFiles.ReadFile(path.Join("topics", args[0]+".txt"))
				if err != nil {
					return err
				}
				fmt.Fprint(a.Out, string(text))
				return nil
			}
			about := c.Root()
			for _, name := range args {
				if about = about.Command(name); about == nil {
					return app.Usagef("there is no topic or command \"%s\"; topics: %s", strings.Join(args, " "), strings.Join(topics(), ", "))
				}
			}
			return cli.ShowSubcommandHelp(about)
		},
	}
}
