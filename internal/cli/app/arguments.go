package app

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"morvant/internal/cli/view"
	"morvant/internal/feed"
	"morvant/internal/process"
	"morvant/internal/volume"
)

// ForceFlag is --force of the commands that take a block off.
func ForceFlag() cli.Flag {
	return &cli.BoolFlag{Name: "force", Usage: "also put back what somebody has changed since the block was set"}
}

// ChangeFlags are the options of every command that changes something.
func ChangeFlags() []cli.Flag {
	return []cli.Flag{&cli.BoolFlag{Name: "dry-run", Aliases: []string{"n"}, Usage: "show the plan and stop"}}
}

// OneOf returns a validator for an option that has one of these values.
func OneOf(values ...string) func(string) error {
	return func(s string) error {
		for _, v := range values {
			if s == v {
				return nil
			}
		}
		return fmt.Errorf("\"%s\" is none of %v", s, values)
	}
}

// Usage is an error in how the program was called.
type Usage struct{ error }

// Unwrap returns what it was made of.
func (u Usage) Unwrap() error { return u.error }

// AsUsage makes an error one in how the program was called.
func AsUsage(err error) error { return Usage{err} }

// Usagef returns an error in how the program was called.
func Usagef(format string, args ...any) error { return Usage{fmt.Errorf(format, args...)} }

// Arguments returns the positional arguments, between least and most of them.
func Arguments(c *cli.Command, least, most int) ([]string, error) {
	list := c.Args().Slice()
	switch {
	case len(list) < least:
		return nil, Usagef("%s needs %s; see %s --help", c.FullName(), c.ArgsUsage, c.FullName())
	case len(list) > most:
		if path := unquoted(c, list, most); path != "" {
			return nil, Usagef("\"%s\" is one argument too many. A path with spaces needs quotes: %s", list[most], view.Quoted(path))
		}
		return nil, Usagef("\"%s\" is one argument too many; see %s --help", list[most], c.FullName())
	}
	return atHome(list, c.ArgsUsage), nil
}

// Number reads the number of a change or a backup; where says what lists them.
func Number(text, of, where string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, Usagef("\"%s\" is not the number of a %s; morvant %s lists them", text, of, where)
	}
	return n, nil
}

// OptionalNumber reads the only argument of a command as number does; 0 if there is none.
func OptionalNumber(c *cli.Command, of, where string) (int64, error) {
	args, err := Arguments(c, 0, 1)
	if err != nil || len(args) == 0 {
		return 0, err
	}
	return Number(args[0], of, where)
}

// LineFlags are those of every command that may use a line.
func LineFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "limit", Usage: "fetch no faster than this `SPEED` (5MB/s)", Validator: func(s string) error { _, err := parseSpeed(s); return err }},
		&cli.DurationFlag{Name: "timeout", Usage: "give up on a server that has been silent for this long: `TIME`, as in 30s", Value: 30 * time.Second},
	}
}

// FetchFlags are those of every command that may fetch content.
func FetchFlags() []cli.Flag {
	return append(LineFlags(), &cli.BoolFlag{Name: "unchecked", Usage: "also take what a distributor gives no digest of, so that damage goes unnoticed"})
}

// parseSpeed reads "5MB/s"; an empty text means no limit.
func parseSpeed(s string) (int64, error) {
	if s == "" {
		return 0, nil
	}
	n, err := humanize.ParseBytes(strings.TrimSuffix(s, "/s"))
	if err != nil || n < 1000 || n > 1<<40 {
		return 0, fmt.Errorf("\"%s\" is not a speed; write it like 5MB/s", s)
	}
	return int64(n), nil
}

// ReadNamed reads a file that the player names, or stdin for -, up to limit bytes and one more.
func (a *App) ReadNamed(name string, limit int64) ([]byte, error) {
	in := a.In
	if name != "-" {
		f, err := volume.OpenNamed(name)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		in = f
	}
	return io.ReadAll(io.LimitReader(in, limit+1))
}

// Date reads a day, or a moment as RFC 3339 writes it; zero if nothing is said.
func Date(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	t, err := time.ParseInLocation(time.DateOnly, text, time.Local)
	if err != nil {
		return t, Usagef("\"%s\" is no date; write it like 2031-08-05, or 2031-08-05T17:00:00Z", text)
	}
	return t, nil
}

// FeedOptions says how a command talks to feeds.
func (a *App) FeedOptions(c *cli.Command) feed.Options {
	limit, _ := parseSpeed(c.String("limit")) // checked when the flag was read
	o := feed.Options{Limit: limit, Silence: c.Duration("timeout"), Meter: a.Meter, Now: a.Now, Ask: a.asker(c), Version: a.Version, Unchecked: c.Bool("unchecked"), Self: process.Self()}
	o.Offer = o.Ask != nil && !c.Bool("answers-stdin")
	if c.Bool("verbose") {
		o.Log = a.Err
	}
	return o
}

// ComponentFlag is --component, which chooses components of a build.
func ComponentFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "component", Usage: "a `COMPONENT` of the build (default: those that the game has)"}
}

// OnlyFlag is --only, which takes no component but those named.
func OnlyFlag() cli.Flag {
	return &cli.BoolFlag{Name: "only", Usage: "take only what --component names, without the components that every build needs"}
}

// CheckOnly returns an error where --only has nothing to go by.
func CheckOnly(c *cli.Command) error {
	if c.Bool("only") && len(c.StringSlice("component")) == 0 {
		return Usagef("--only goes with --component NAME")
	}
	return nil
}
