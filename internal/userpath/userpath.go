// Package userpath reads the paths that people write: it expands ~ and variables (written either
// way) and makes relative paths absolute.
package userpath

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"morvant/internal/problem"
	"morvant/internal/volume"
)

// Within reports whether a path is dir or below it. Both are full. Letter case does not
// count where the system's folders usually ignore it.
func Within(path, dir string) bool {
	rel, err := filepath.Rel(volume.UsualFold(dir), volume.UsualFold(path))
	return err == nil && filepath.IsLocal(rel)
}

// Holds reports whether path is the folder dir or below it, by any spelling: through links, short
// names, or another drive letter.
func Holds(dir, path string) bool {
	if Within(path, dir) {
		return true
	}
	is, err := os.Stat(dir)
	if err != nil {
		return false
	}
	for {
		if at, err := os.Stat(path); err == nil && os.SameFile(is, at) {
			return true
		}
		up := filepath.Dir(path)
		if up == path {
			return false
		}
		path = up
	}
}

// System returns the folder of the system that path is, lies in, or holds, where no game can be;
// empty if it is none.
func System(path string) string {
	for _, dir := range systemFolders() {
		if dir == "" {
			continue
		}
		if Holds(dir, path) {
			return dir
		}
	}
	for _, dir := range slices.Concat(systemFolders(), sharedFolders()) {
		if dir != "" && Holds(path, dir) {
			return dir
		}
	}
	return ""
}

// ErrDrive is returned for a path on Windows that says no drive, or no folder of a drive.
var ErrDrive = problem.New("the path does not say which drive, or which folder of it, is meant", "Write it in full, as in C:\\Games\\Quay")

// Full returns ErrDrive for a path whose meaning depends on the drive that is worked on: \Quay, which a variable that is
// not set leaves behind, or C:Quay.
func Full(path string) error {
	if !filepath.IsAbs(path) && driveless(filepath.VolumeName(path), path) {
		return fmt.Errorf("%s: %w", path, ErrDrive)
	}
	return nil
}

// driveless decides that for a path that is not full.
func driveless(volume, path string) bool {
	return filepath.Separator == '\\' && (volume != "" || strings.HasPrefix(path, `\`) || strings.HasPrefix(path, "/"))
}

// Plain takes the mark off a path on Windows that makes its system take it literally.
func Plain(path string) string {
	if filepath.Separator != '\\' {
		return path
	}
	if rest, ok := strings.CutPrefix(path, `\\?\UNC\`); ok {
		return `\\` + rest
	}
	if rest, ok := strings.CutPrefix(path, `\\?\`); ok && len(rest) > 1 && rest[1] == ':' {
		return rest
	}
	return path
}

var percent = regexp.MustCompile(`%([A-Za-z_][A-Za-z0-9_()]*)%`)

// Unset lists the variables in path that are not set, each once.
func Unset(path, home string) []string {
	var names []string
	look := func(name string) string {
		v := os.Getenv(name)
		if v == "" {
			v = known(strings.ToUpper(name), home)
		}
		if v == "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
		return v
	}
	path = percent.ReplaceAllStringFunc(path, func(name string) string { return look(name[1 : len(name)-1]) })
	os.Expand(path, look)
	return names
}

// Expand makes path full: ~ stands for home, $NAME and %NAME% for variables, and a
// relative path starts at base. Slashes are those of the system. DOCUMENTS and
// SAVED_GAMES, APPDATA and LOCALAPPDATA are known on every system; another variable
// that is not set leaves nothing.
func Expand(path, home, base string) string {
	if path == "~" || strings.HasPrefix(path, "~/") || strings.HasPrefix(path, `~\`) {
		path = home + path[1:]
	}
	value := func(name string) string {
		if v := os.Getenv(name); v != "" {
			return v
		}
		return known(strings.ToUpper(name), home)
	}
	path = percent.ReplaceAllStringFunc(path, func(name string) string { return value(name[1 : len(name)-1]) })
	path = filepath.FromSlash(os.Expand(path, value))
	if !filepath.IsAbs(path) {
		path = filepath.Join(base, path)
	}
	return filepath.Clean(path)
}
