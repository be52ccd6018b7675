package app

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"morvant/internal/cli/view"

	"github.com/urfave/cli/v3"
)

// places are the words that stand in help for a file or a folder.
var places = []string{"FOLDER", "FILE", "SOURCE", "FROM", "ADDRESS", "MIRROR", "STATE"}

// place reports whether a word of help stands for a file or a folder, or for one among other things.
func place(word string) bool {
	for one := range strings.SplitSeq(strings.Trim(word, "[]."), "|") {
		for _, p := range places {
			if one == p || strings.HasPrefix(one, p+".") {
				return true
			}
		}
	}
	return false
}

// Home makes ~ at the beginning of a path the home folder, as many shells do, and some do not.
func Home(path string) string {
	rest, found := strings.CutPrefix(path, "~")
	if !found || rest != "" && !os.IsPathSeparator(rest[0]) && rest[0] != '/' {
		return path
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return path
	}
	return home + filepath.FromSlash(rest)
}

// atHome applies Home to those arguments that are files or folders, by what help calls them.
func atHome(list []string, usage string) []string {
	words := strings.Fields(usage)
	out := make([]string, len(list))
	for i, text := range list {
		word := ""
		if len(words) > 0 {
			word = words[min(i, len(words)-1)]
		}
		if i >= len(words) && !strings.Contains(word, "...") {
			word = ""
		}
		if out[i] = text; place(word) {
			out[i] = Home(text)
		}
	}
	return out
}

var placeholder = regexp.MustCompile("`([^`]+)`")

// placesSet lists those options of a command that are files or folders, and are set.
func placesSet(c *cli.Command) []*cli.StringFlag {
	var list []*cli.StringFlag
	for _, f := range c.Flags {
		option, ok := f.(*cli.StringFlag)
		if !ok || !c.IsSet(option.Name) {
			continue
		}
		if m := placeholder.FindStringSubmatch(option.Usage); m != nil && place(m[1]) {
			list = append(list, option)
		}
	}
	return list
}

// OptionsAtHome applies Home to those options of a command that are files or folders.
func OptionsAtHome(c *cli.Command) error {
	for _, option := range placesSet(c) {
		if text := c.String(option.Name); Home(text) != text {
			if err := c.Set(option.Name, Home(text)); err != nil {
				return err
			}
		}
	}
	return nil
}

// unquoted returns the path with spaces that surplus arguments seem to be parts of; empty if they
// do not look like one.
func unquoted(c *cli.Command, list []string, most int) string {
	words := strings.Fields(c.ArgsUsage)
	for i := range list {
		if i < len(words) && place(words[i]) && strings.ContainsAny(list[i], `/\~.`) {
			return longest(list[i:])
		}
	}
	for _, option := range placesSet(c) {
		whole := append([]string{c.String(option.Name)}, list[most:]...)
		if path := longest(whole); strings.ContainsAny(whole[0], `/\~.`) {
			return path
		}
	}
	return ""
}

// CheckThere returns an error for a path that is not there because it has spaces and no quotes: of
// words that follow each other.
func CheckThere(words []string) error {
	for i, word := range words {
		if _, err := os.Stat(word); err == nil {
			continue
		}
		path := longest(words[i:])
		if _, err := os.Stat(Home(path)); err == nil && path != word {
			return Usagef("%s is not there. A path with spaces needs quotes: %s", word, view.Quoted(path))
		}
	}
	return nil
}

// longest joins as many words as name something that is there; all of them if nothing is.
func longest(list []string) string {
	for end := len(list); end > 1; end-- {
		path := strings.Join(list[:end], " ")
		if _, err := os.Stat(Home(path)); err == nil {
			return path
		}
	}
	return strings.Join(list, " ")
}
