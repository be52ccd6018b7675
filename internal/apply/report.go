package apply

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
)

// Report says what a player should know of how a change went.
type Report struct {
	// Aside lists files that something else had put in the way; see AsideFile.
	Aside    []AsideFile
	AsideDir string // the folder that they are in, relative to the folder; empty: none
	// Unset lists paths whose times or modes could not be set.
	Unset []string
	// UnsetWhy is what the system said of the first of them.
	UnsetWhy error
	// Shared lists files with other names elsewhere, whose times or modes were left alone
	// for want of room for a copy.
	Shared []string
	// Restored lists files that were gone and have been written again from the store.
	Restored []string
	// Lost lists files that were gone and that the store does not have.
	Lost []string
}

// AsideFile is a file that was in the way and has been moved.
type AsideFile struct {
	Path string // where it stood
	At   string // where it is now; both relative to the folder
}

// Empty reports whether everything went as planned.
func (r *Report) Empty() bool {
	return len(r.Aside)+len(r.Unset)+len(r.Shared)+len(r.Restored)+len(r.Lost) == 0
}

// unset notes that the time or mode of a path could not be set.
func (r *Report) unset(p string, err error) {
	if len(r.Unset) == 0 {
		r.UnsetWhy = err
	}
	r.Unset = append(r.Unset, p)
}

// Sentences says for people what did not go as planned in the folder dir.
func (r *Report) Sentences(dir string) []string {
	var list []string
	say := func(n int, first, one, many string) {
		switch {
		case n == 1:
			list = append(list, fmt.Sprintf(one, first))
		case n > 1:
			list = append(list, fmt.Sprintf(many, n, first))
		}
	}
	if n := len(r.Aside); n > 0 {
		say(n, r.Aside[0].Path, "something else wrote %s meanwhile", "something else wrote %d files meanwhile, such as %s")
		list[len(list)-1] += "; Morvant keeps what was written in " + filepath.Join(dir, filepath.FromSlash(r.AsideDir))
	}
	say(len(r.Restored), first(r.Restored), "%s was missing and has been restored from the store", "%d files, such as %s, were missing and have been restored from the store")
	say(len(r.Lost), first(r.Lost), "%s is gone and is not in the store", "%d files, such as %s, are gone and not in the store")
	if n := len(r.Unset); n > 0 {
		say(n, r.Unset[0], "the date or mode of %s could not be set", "the dates or modes of %d files, such as %s, could not be set")
		why := "you have no right to"
		if r.UnsetWhy != nil && !errors.Is(r.UnsetWhy, fs.ErrPermission) {
			why = r.UnsetWhy.Error()
			if at := (*fs.PathError)(nil); errors.As(r.UnsetWhy, &at) {
				why = at.Err.Error()
			}
		}
		list[len(list)-1] += ": " + why
	}
	say(len(r.Shared), first(r.Shared), "%s has other names elsewhere (hard links), and there is no room for a copy: its date and mode stay as they are",
		"%d files, such as %s, have other names elsewhere (hard links), and there is no room for copies: their dates and modes stay as they are")
	return list
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}
