package app

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"morvant/internal/cli/view"
	"morvant/internal/scan"
	"morvant/internal/volume"
)

// The groups of commands in the order in which a player comes to need them; help lists
// them by name.
const (
	GroupGames  = "1. your games"
	GroupRecord = "2. record and compare"
	GroupPin    = "3. hold, and take back"
	GroupLanes  = "4. several installs"
	GroupSaves  = "5. saved games"
	GroupFeeds  = "6. builds from elsewhere"
	GroupShare  = "7. share"
	GroupStore  = "8. the store"
	GroupHelp   = "9. learn more"
)

// App is one run of the program.
type App struct {
	Args           []string // the command line, with the program's name
	In             *os.File
	Stdout, Stderr *os.File
	Out, Err       io.Writer // with colours as far as they are wanted
	Now            func() time.Time
	Version        string
	Meter          *meter
	Interrupted    <-chan struct{} // closed when the player wants to end the program

	typed chan typed // of a line that is being read; nil: none is
}

// Emit writes a JSON document.
func (a *App) Emit(v any) error {
	e := json.NewEncoder(a.Stdout)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// Say writes a line of the result.
func (a *App) Say(format string, args ...any) { fmt.Fprintf(a.Out, format+"\n", args...) }

// Note writes a line beside the result.
func (a *App) Note(format string, args ...any) {
	a.Meter.pause()
	fmt.Fprintln(a.Err, Commands(view.Plain(fmt.Sprintf(format, args...))))
}

// Done says that something small is done.
func (a *App) Done(c *cli.Command, text string) error {
	if c.Bool("json") {
		return a.Emit(struct {
			Schema string `json:"schema"`
			Done   string `json:"done"`
		}{"morvant-done/1", text})
	}
	a.Say("%s", text)
	return nil
}

// NoteDisk says what the disk of a folder cannot hold.
func (a *App) NoteDisk(dir string) {
	traits, err := volume.TraitsOf(dir)
	if err != nil {
		return // what cannot be written to is said elsewhere
	}
	if lacks := traits.Lacks(); len(lacks) > 0 {
		a.Note("Note: the disk that holds %s has limits: %s.", dir, strings.Join(lacks, "; "))
	}
}

// NoteOdd tells what was left out, a few by name.
func (a *App) NoteOdd(odd []scan.Oddity) {
	for i, o := range odd {
		if i == 5 {
			a.Note("Note: %d more entries are left out.", len(odd)-i)
			return
		}
		if o.Unread {
			a.Note("Note: %s is %s, and is not looked at. If nobody needs it: morvant game set --scratch %s", o.Path, o.What, view.Quoted(o.Path))
			continue
		}
		what := o.What
		if !o.Name {
			what = o.Path + " is " + what
		}
		a.Note("Note: %s; Morvant leaves it alone.", what)
	}
}

// Width returns the columns of the terminal; 0 if the output goes elsewhere.
func (a *App) Width() int {
	w, _, err := term.GetSize(int(a.Stdout.Fd()))
	if err != nil {
		return 0
	}
	return w
}

// Table writes a table that fits the window.
func (a *App) Table(columns []view.Column, rows [][]string) {
	text, hidden := view.Table(columns, rows, a.Width())
	a.Say("%s", text)
	if hint := view.Hidden(columns, hidden); hint != "" {
		a.Say("%s", view.Faint(hint))
	}
}
