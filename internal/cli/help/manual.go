package help

import (
	"context"
	"embed"
	"regexp"
	"strings"
	"text/template"

	"github.com/cpuguy83/go-md2man/v2/md2man"
	"github.com/urfave/cli/v3"
)

//go:embed manual.md
var manualFiles embed.FS

// manCommand writes the manual page, for packagers.
func (a commands) manCommand() *cli.Command {
	return &cli.Command{
		Name: "manpage", Usage: "write the manual page", Hidden: true, Description: "Example: morvant manpage > morvant.1",
		Action: func(_ context.Context, c *cli.Command) error {
			page := template.New("manual.md").Funcs(template.FuncMap{"options": options, "indent": indent, "about": allCommands})
			if _, err := page.ParseFS(manualFiles, "manual.md"); err != nil {
				return err
			}
			var text strings.Builder
			if err := page.Execute(&text, c.Root()); err != nil {
				return err
			}
			_, err := a.Stdout.Write(md2man.Render([]byte(text.String())))
			return err
		},
	}
}

// manualCommand is a command as the manual page tells of it.
type manualCommand struct {
	Line string // as it is typed
	*cli.Command
}

// allCommands lists the commands below c, those within commands too.
func allCommands(c *cli.Command, prefix string) []manualCommand {
	var list []manualCommand
	for _, sub := range c.Commands {
		if sub.Hidden || sub.Name == "help" && prefix != "" {
			continue
		}
		name := strings.TrimSpace(prefix + " " + sub.Name)
		list = append(list, manualCommand{strings.TrimSpace(name + " " + sub.ArgsUsage), sub})
		list = append(list, allCommands(sub, name)...)
	}
	return list
}

var placeholder = regexp.MustCompile("`([^`]+)`")

// options lists a command's own flags as Markdown; --help is told of once, at the top.
func options(c *cli.Command) []string {
	var list []string
	for _, f := range c.VisibleFlags() {
		flag, ok := f.(cli.DocGenerationFlag)
		if !ok || f.Names()[0] == "help" && c.Root() != c {
			continue
		}
		var names []string
		for _, n := range f.Names() {
			names = append(names, "**"+strings.Repeat("-", min(len(n), 2))+n+"**")
		}
		line := strings.Join(names, ", ")
		usage := flag.GetUsage()
		if flag.TakesValue() {
			value := "TEXT"
			if named := placeholder.FindStringSubmatch(usage); named != nil {
				value = named[1]
			}
			line += " *" + value + "*"
		}
		line += "\n: " + placeholder.ReplaceAllString(usage, "$1")
		if d := flag.GetDefaultText(); d != "" && flag.TakesValue() {
			line += " (default: " + d + ")"
		}
		list = append(list, line)
	}
	return list
}

// indent makes a block of text that is shown as it stands.
func indent(text string) string {
	return "    " + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n    ")
}
