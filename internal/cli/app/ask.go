package app

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"morvant/internal/problem"
)

// ErrDifferent ends a command whose answer is "not the same".
var ErrDifferent = errors.New("different")

// ErrUnanswered ends a command that needed an answer and got none.
var ErrUnanswered = problem.New("this needs a yes, and nobody is there to give it", "Add --yes; --dry-run shows what it would do")

// ErrDeclined ends a command whose question was answered with no.
var ErrDeclined = errors.New("nothing was changed")

// Refusal ends a command that does not go on unless it is told more: nothing was changed.
type Refusal struct{ error }

// AsRefusal makes an error one.
func AsRefusal(err error) error { return Refusal{err} }

// Refusef returns one that says why.
func Refusef(format string, args ...any) error { return Refusal{fmt.Errorf(format, args...)} }

// Unwrap returns what it was made of.
func (r Refusal) Unwrap() error { return r.error }

// Rights says how a player comes by the right to change a game's folder.
func Rights() string {
	const move = "Move the game to a folder of your own"
	if runtime.GOOS == "windows" {
		return move + " (C:\\Games, not Program Files), or give yourself the right: the folder's Properties, Security, Edit, your name, Full control"
	}
	return move + ", or give yourself the right to write there"
}

// ErrDryRun ends a dry run in front of the question whether to go on.
var ErrDryRun = errors.New("this was a dry run; nothing was changed")

// Ask asks a question that needs a yes. A dry run ends there.
func (a *App) Ask(c *cli.Command, question string) error {
	if c.Bool("dry-run") {
		if err := a.Done(c, "This was a dry run; nothing was changed. It would ask: "+question); err != nil {
			return err
		}
		return ErrDryRun
	}
	if c.Bool("yes") {
		return nil
	}
	if !a.Interactive() {
		return ErrUnanswered
	}
	return a.Question(question)
}

// Interactive reports whether somebody can answer.
func (a *App) Interactive() bool { return term.IsTerminal(int(a.In.Fd())) }

// Question asks at the terminal, whatever has been answered beforehand.
func (a *App) Question(question string) error {
	a.Meter.pause()
	fmt.Fprintf(a.Err, "%s [y/N] ", question)
	line, err := a.NextLine(context.Background())
	switch {
	case errors.Is(err, io.EOF):
		fmt.Fprintln(a.Err)
		return ErrDeclined
	case err != nil:
		fmt.Fprintln(a.Err)
		return err
	case slices.Contains([]string{"y", "yes"}, strings.ToLower(strings.TrimSpace(line))):
		return nil
	}
	return ErrDeclined
}

// typed is a line that somebody has typed, or why there will be none.
type typed struct {
	text string
	err  error
}

// NextLine waits for a line that is typed, until it is interrupted. A line that comes after ctx is
// done belongs to whoever asks next.
func (a *App) NextLine(ctx context.Context) (string, error) {
	if a.typed == nil {
		line := make(chan typed, 1)
		a.typed = line
		go func() {
			text, err := bufio.NewReader(a.In).ReadString('\n')
			line <- typed{text, err}
		}()
	}
	select {
	case line := <-a.typed:
		a.typed = nil
		return line.text, line.err
	case <-a.Interrupted:
		return "", context.Canceled
	case <-ctx.Done():
		return "", ctx.Err()
	}
}
