package view

import (
	"bytes"
	"errors"
	"fmt"
	"image/color"
	"io/fs"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"charm.land/lipgloss/v2"
	"github.com/dustin/go-humanize"

	"morvant/internal/database"
	"morvant/internal/volume"
)

// FirstNonEmpty returns the first text that is not empty.
func FirstNonEmpty(list ...string) string {
	for _, s := range list {
		if s != "" {
			return s
		}
	}
	return ""
}

// Comma writes a number with separators.
func Comma(n int) string { return humanize.Comma(int64(n)) }

// SortedKeys lists the keys of a map in order.
func SortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// Few is how many files a list shows unless all are asked for.
const Few = 8

// Size writes bytes for people.
func Size(n int64) string { return humanize.Bytes(uint64(max(n, 0))) }

// Clip shortens a text to n cells.
func Clip(s string, n int) string { return Shorten(s, n, CutEnd) }

// IsText reports whether bytes can be shown as text.
func IsText(b []byte) bool { return utf8.Valid(b) && bytes.IndexByte(b, 0) < 0 }

// The few colours, by what they mean. A word always says the same.
var (
	Good  color.Color = lipgloss.Green
	Bad   color.Color = lipgloss.Red
	Fresh color.Color = lipgloss.Cyan
)

// Paint colours a text.
func Paint(c color.Color, s string) string { return lipgloss.NewStyle().Foreground(c).Render(s) }

// Strong makes a text bold.
func Strong(s string) string { return lipgloss.NewStyle().Bold(true).Render(s) }

// Faint makes a text faint.
func Faint(s string) string { return lipgloss.NewStyle().Faint(true).Render(s) }

// Count writes "1 file" or "12 files".
func Count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return humanize.Comma(int64(n)) + " " + word + "s"
}

// Day writes a time to the minute, by the clock of this computer.
func Day(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// Fields lays out names and values, one a line.
func Fields(pairs ...string) string {
	width := 0
	for i := 0; i < len(pairs); i += 2 {
		width = max(width, len(pairs[i]))
	}
	var b strings.Builder
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] == "" {
			continue
		}
		fmt.Fprintf(&b, "  %s  %s\n", Faint(fmt.Sprintf("%-*s", width, pairs[i])), pairs[i+1])
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// OneLine returns what an error says, for people, in one line.
func OneLine(err error) string {
	var space *volume.SpaceError
	if errors.As(err, &space) {
		return fmt.Sprintf("not enough free space in %s: %s are needed and %s are free", space.Dir, Size(space.Need), Size(space.Free))
	}
	if database.Unwritable(err) {
		return "Morvant's home cannot be written to now"
	}
	text := err.Error()
	for _, e := range systemErrors(err) {
		text = strings.ReplaceAll(text, e.Error(), plainly(e))
	}
	text = Plain(text)
	text = strings.Join(strings.FieldsFunc(text, func(r rune) bool { return r == '\n' }), "; ")
	return strings.TrimRight(text, ". ")
}

// calls are functions of systems that no player knows, before the path that they were about.
var calls = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\b(?:lstat|fstatat|statat|stat|openat|unlinkat|mkdirat|renameat|chtimes|readlink|symlink|CreateFile|GetFileAttributesEx|GetFileInformationByHandle|FindFirstFile|MoveFileEx|DeleteFile|RemoveDirectory) ((?:[A-Za-z]:)?[^:\n]+: )`)
})

// sayings are what systems say, and what it means.
var sayings = strings.NewReplacer(
	"no such file or directory", "there is no such file or folder", "The system cannot find the file specified.", "there is no such file or folder",
	"The system cannot find the path specified.", "there is no such file or folder", "Access is denied.", "permission denied", "file already exists", "it exists already", "file exists", "it exists already", "file does not exist", "there is no such file or folder",
)

// Plain takes the words of systems out of a text.
func Plain(text string) string { return sayings.Replace(calls().ReplaceAllString(text, "$1")) }

// systemErrors lists what the system said of files, in an error and in those that it was made of.
func systemErrors(err error) []error {
	switch e := err.(type) {
	case nil:
		return nil
	case *fs.PathError, *os.LinkError, *os.SyscallError, *exec.Error:
		return []error{e}
	case interface{ Unwrap() []error }:
		var list []error
		for _, inner := range e.Unwrap() {
			list = append(list, systemErrors(inner)...)
		}
		return list
	case interface{ Unwrap() error }:
		return systemErrors(e.Unwrap())
	}
	return nil
}

// plainly says such an error without the names of the system's functions.
func plainly(err error) string {
	subject := ""
	var path *fs.PathError
	var link *os.LinkError
	var program *exec.Error
	switch {
	case errors.As(err, &program):
		subject, err = program.Name+": ", program.Err
	case errors.As(err, &path):
		subject, err = path.Path+": ", path.Err
	case errors.As(err, &link):
		subject, err = link.Old+" → "+link.New+": ", link.Err
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return subject + "there is no such file or folder"
	case errors.Is(err, fs.ErrPermission):
		return subject + "permission denied"
	case errors.Is(err, fs.ErrExist):
		return subject + "it exists already"
	}
	text := err.Error()
	var call *os.SyscallError
	if errors.As(err, &call) {
		text = call.Err.Error()
	}
	return subject + strings.TrimRight(text, ". ")
}
