package process

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"runtime/debug"
	"strings"
	"time"

	"morvant/internal/problem"
)

// Names under which the program is something else, see Keeper and Contained.
const (
	KeeperName    = "morvant-keeper"
	ContainedName = "morvant-contained"
)

// Is reports whether the program was started under a name.
func Is(args []string, name string) bool { return len(args) > 0 && args[0] == name }

// ErrBroken is returned where a contained piece of work ended without an answer.
var ErrBroken = problem.New("this cannot be read: it takes too much memory or time, or is damaged in a way that breaks the reader", "Nothing of it was recorded. Get it again from somebody you trust, or unpack it yourself and import the folder")

// Work is what a contained process does with what it is asked; it writes what it finds out, and returns an error if
// that cannot be written.
type Work func(ask io.Reader, out io.Writer) error

// ContainedMain is what the program does under ContainedName. It has no environment and may write no file, and it ends
// when its memory, in bytes, is used up, or the process that has started it ends.
func ContainedMain(memory int64, do Work) int {
	signal.Ignore(os.Interrupt) // Ctrl-C reaches all; who has started this one ends it
	limit(memory)
	debug.SetMemoryLimit(memory / 2)
	debug.SetTraceback("none")
	ask, alive := io.Pipe()
	go func() {
		_, _ = io.Copy(alive, os.Stdin)
		os.Exit(1) // nobody waits for an answer any more
	}()
	if do(ask, os.Stdout) != nil {
		return 1
	}
	return 0
}

// Contained runs a piece of work in a process of its own. ask is sent to it, and read gets what it writes. A process
// that says nothing for the time of silence is ended. An error of read counts; without one, ErrBroken says that the
// process did not come to its end.
func Contained(ctx context.Context, self string, silence time.Duration, ask []byte, read func(io.Reader) error) error {
	dir, err := os.MkdirTemp("", "morvant-contained-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	cmd := &exec.Cmd{Path: self, Args: []string{ContainedName}, Dir: dir, Env: bareEnvironment()}
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start a reader: %w", err)
	}
	kill := func() { _ = cmd.Process.Kill() }
	defer context.AfterFunc(ctx, kill)()
	quiet := time.AfterFunc(silence, kill)
	defer quiet.Stop()
	_, askErr := in.Write(ask)
	err = errors.Join(askErr, read(&heard{out, quiet, silence}))
	if quiet.Reset(silence); err != nil {
		kill()
	}
	waitErr := cmd.Wait() // closes in: before, that would end it
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, ErrBroken), err == nil && waitErr != nil, askErr != nil:
		return ErrBroken
	}
	return err
}

// heard puts off the end of a process for as long as it says something. While nobody reads, nothing is expected.
type heard struct {
	in      io.Reader
	quiet   *time.Timer
	silence time.Duration
}

func (h *heard) Read(b []byte) (int, error) {
	h.quiet.Reset(h.silence)
	n, err := h.in.Read(b)
	h.quiet.Stop()
	return n, err
}

// Environment lists the variables of this process that a program of somebody else needs: where things are, what
// language is spoken, how the net is reached. Passwords that were put into others do not reach it.
func Environment() []string {
	var list []string
	for _, v := range os.Environ() {
		name, _, _ := strings.Cut(v, "=")
		upper := strings.ToUpper(name)
		if passed[upper] || strings.HasPrefix(upper, "LC_") || strings.HasPrefix(upper, "XDG_") {
			list = append(list, v)
		}
	}
	return list
}

var passed = set(
	"PATH", "HOME", "USER", "LOGNAME", "SHELL", "LANG", "LANGUAGE", "TZ", "TMPDIR", "SSL_CERT_FILE", "SSL_CERT_DIR", "HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "ALL_PROXY",
	// Windows'.
	"SYSTEMROOT", "SYSTEMDRIVE", "WINDIR", "COMSPEC", "PATHEXT", "TEMP", "TMP", "USERPROFILE", "USERNAME", "HOMEDRIVE", "HOMEPATH", "APPDATA", "LOCALAPPDATA", "PROGRAMDATA",
	"PROGRAMFILES", "PROGRAMFILES(X86)", "PROGRAMW6432", "COMMONPROGRAMFILES", "ALLUSERSPROFILE", "PUBLIC", "NUMBER_OF_PROCESSORS", "PROCESSOR_ARCHITECTURE", "OS",
)

func set(names ...string) map[string]bool {
	m := make(map[string]bool)
	for _, name := range names {
		m[name] = true
	}
	return m
}

// bareEnvironment is that of a process that needs none. Windows starts nothing without knowing where it is itself.
func bareEnvironment() []string {
	list := []string{}
	for _, v := range os.Environ() {
		name, _, _ := strings.Cut(v, "=")
		if strings.EqualFold(name, "SYSTEMROOT") {
			list = append(list, v)
		}
	}
	return list
}
