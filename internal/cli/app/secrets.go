package app

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"morvant/internal/adapter"
	"morvant/internal/strict"
)

// AnswersFlag is --answers-stdin, of commands in which an adapter may ask.
func AnswersFlag() cli.Flag {
	return &cli.BoolFlag{Name: "answers-stdin", Usage: "answer what an adapter asks from stdin, a line for each question"}
}

// asker answers what adapters ask: from lines of stdin, or at the terminal; nil: nobody is there.
func (a *App) asker(c *cli.Command) func(context.Context, adapter.Question) (string, error) {
	var lines *bufio.Reader
	if c.Bool("answers-stdin") {
		lines = bufio.NewReader(io.LimitReader(a.In, 64*maxSecret))
	} else if a.In == nil || !term.IsTerminal(int(a.In.Fd())) {
		return nil
	}
	return func(_ context.Context, q adapter.Question) (string, error) {
		switch {
		case lines != nil:
			line, err := lines.ReadString('\n')
			if line = typedLine(line); line == "" && err != nil {
				return "", Usagef("stdin has no line to answer \"%s\" with", q.Text)
			}
			return line[:min(len(line), maxSecret)], nil
		case q.Secret:
			a.Meter.pause()
			return a.readUnseen(q.Text + ": ")
		}
		a.Meter.pause()
		fmt.Fprintf(a.Err, "%s: ", q.Text)
		line, err := bufio.NewReader(a.In).ReadString('\n')
		if line == "" && err != nil {
			return "", context.Canceled
		}
		return strings.TrimSpace(line), nil
	}
}

// Secrets reads what must not be seen: from lines of stdin, a variable, or a
// terminal that does not show it.
// Secrets returns what reads passwords, codes and keys for a command, from stdin if the option of that name is given.
type Secrets struct {
	App   *App
	lines *bufio.Reader // nil: not from stdin
}

// maxSecret bounds a password, a code or a key, in bytes.
const maxSecret = 4096

// Read returns a secret. variable names an environment variable that may hold it.
func (s *Secrets) Read(what, variable string) (string, error) {
	switch {
	case variable != "":
		v := os.Getenv(variable)
		if v == "" {
			return "", Usagef("the variable %s is empty", variable)
		}
		return v, nil
	case s.lines != nil:
		line, err := s.lines.ReadString('\n')
		line = typedLine(line)
		if line == "" {
			if err != nil {
				return "", Usagef("stdin has no line with the %s", what)
			}
			return "", Usagef("stdin has an empty line where the %s should be", what)
		}
		return line[:min(len(line), maxSecret)], nil
	case !term.IsTerminal(int(s.App.In.Fd())):
		return "", Refusef("there is no terminal to ask for the %s; for scripts see the options that read it from stdin or a variable", what)
	}
	s.App.Meter.pause()
	return s.App.readUnseen(strings.ToUpper(what[:1]) + what[1:] + ": ")
}

// typedLine is a line without its end, and without the mark that some programs begin a text with.
func typedLine(line string) string {
	return strings.TrimPrefix(strings.TrimRight(line, "\r\n"), strict.Mark)
}

// readUnseen asks at the terminal and shows nothing of the answer, not even of what
// is typed before the question is there.
func (a *App) readUnseen(prompt string) (string, error) {
	fd := int(a.In.Fd())
	was, err := term.MakeRaw(fd)
	if err != nil {
		return "", err
	}
	defer term.Restore(fd, was)
	text, err := term.NewTerminal(struct {
		io.Reader
		io.Writer
	}{a.In, a.Stderr}, "").ReadPassword(prompt)
	if errors.Is(err, io.EOF) {
		return "", context.Canceled // Ctrl-C and Ctrl-D
	}
	return text, err
}

func (a *App) Secrets(c *cli.Command, fromStdin string) *Secrets {
	s := &Secrets{App: a}
	if c.Bool(fromStdin) {
		s.lines = bufio.NewReader(a.In)
	}
	return s
}
