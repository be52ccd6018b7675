package app

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"runtime"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"morvant/internal/problem"
)

// ErrDifferent ends a command whose answer is "not the same".
var ErrDifferent = errors.New("different")

// ErrUnanswered ends a command that needed an answer and got none.
var ErrUnanswered = problem.New("this changes files and needs an answer", "Look at the plan with --dry-run, then run it again with --yes")

// ErrDeclined ends a command whose question was answered with no.
var ErrDeclined = errors.New("nothing was changed")

// Rights says how a player comes by the right to change a game's folder.
func Rights() string {
	const move = "Move the game to a folder of your own"
	if runtime.GOOS == "windows" {
		return move + " (C:\\Games, not Program Files), or give yourself the right: the folder's Properties, Security, Edit, your name, Full control"
	}
	return move + ", or give yourself the right to write there"
}

// Ask asks a question that needs a yes.
func (a *App) Ask(c *cli.Command, question string) error {
	if c.Bool("yes") {
		return nil
	}
	if !term.IsTerminal(int(a.In.Fd())) {
		return ErrUnanswered
	}
	return a.Question(question)
}

// Question asks at the terminal, whatever has been answered beforehand.
func (a *App) Question(question string) error {
	a.Meter.pause()
	fmt.Fprintf(a.Err, "%s [y/N] ", question)
	answer := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(a.In).ReadString('\n')
		answer <- line
	}()
	select {
	case line := <-answer:
		switch strings.ToLower(strings.TrimSpace(line)) {
		case "y", "yes":
			return nil
		}
		return ErrDeclined
	case <-a.Interrupted:
		fmt.Fprintln(a.Err)
		return context.Canceled
	}
}
