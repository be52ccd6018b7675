package identify

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/version"
	"morvant/internal/volume"
)

// Evidence is what a game says about its own version, beside its content.
type Evidence struct {
	Source string // "bin/quay.exe", "logs/last.txt"
	Says   string // "1.1.1.0"
	// Log is set for what the game wrote when it ran last, which may have been
	// before the files changed.
	Log bool
}

// maxPrograms bounds how many programs are looked into where none is named.
const maxPrograms = 8

// Says gathers what the game in dir says about its version: the version resource of
// its program (of programs near the top if none is named), and what rules find.
func Says(dir, program string, list []version.Rule) ([]Evidence, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	programs := []string{program}
	if program == "" {
		programs = programsIn(root)
	}
	var found []Evidence
	for _, p := range programs {
		f, err := volume.OpenIn(root, filepath.FromSlash(p))
		if err != nil {
			continue
		}
		info, err := version.OfProgram(f)
		f.Close()
		if err == nil {
			says := info.File
			if says == "" {
				says = info.Product
			}
			found = append(found, Evidence{Source: p, Says: says})
		}
	}
	for _, r := range list {
		says, err := version.OfText(root, r)
		switch {
		case errors.Is(err, fs.ErrNotExist), errors.Is(err, version.ErrNone):
		case err != nil:
			return nil, err
		default:
			found = append(found, Evidence{Source: r.File, Says: says, Log: strings.HasSuffix(r.File, ".log") || strings.HasPrefix(r.File, "logs/")})
		}
	}
	return found, nil
}

// programsIn lists Windows programs in the folder and in bin, the first few.
func programsIn(root *os.Root) []string {
	var list []string
	for _, dir := range []string{".", "bin"} {
		entries, err := fs.ReadDir(root.FS(), dir)
		if err != nil {
			continue
		}
		for _, e := range entries {
			if strings.EqualFold(path.Ext(e.Name()), ".exe") && e.Type().IsRegular() && len(list) < maxPrograms {
				list = append(list, path.Join(dir, e.Name()))
			}
		}
	}
	return list
}

// Disagrees lists what speaks against a build: evidence that means the label of
// another known one.
func Disagrees(list []Evidence, label string, known []string) []Evidence {
	var against []Evidence
	for _, e := range list {
		means := func(l string) bool { return version.Means(e.Says, l) }
		if !means(label) && slices.ContainsFunc(known, means) {
			against = append(against, e)
		}
	}
	return against
}
