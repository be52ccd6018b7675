package view

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"morvant/internal/plan"
	"morvant/internal/scan"
)

// LeftAlone says what a rule does not cover.
func LeftAlone(n int) string {
	switch n {
	case 0:
		return ""
	case 1:
		return "; 1 file has other names elsewhere (hard links) and is left alone"
	}
	return fmt.Sprintf("; %s files have other names elsewhere (hard links) and are left alone", Comma(n))
}

// ThatAre says "1 file that is" or "2 files that are".
func ThatAre(n int) string {
	if n == 1 {
		return "1 file that is"
	}
	return Comma(n) + " files that are"
}

// Stamp writes a time of change for a table; empty for none.
func Stamp(t time.Time) string {
	if t.UnixNano() == 0 {
		return ""
	}
	return Day(t)
}

// Gets says "1 file gets" or "2 files get".
func Gets(n int) string {
	if n == 1 {
		return "1 file gets"
	}
	return Comma(n) + " files get"
}

// Stay says that so many things stay.
func Stay(n int) string {
	if n == 1 {
		return "stays as it is"
	}
	return "stay as they are"
}

// Them says "it" or "them".
func Them(n int) string {
	if n == 1 {
		return "it"
	}
	return "them"
}

// DifferOrMissing says how many files differ or are missing.
func DifferOrMissing(n int) string {
	if n == 1 {
		return "differs or is missing"
	}
	return "differ or are missing"
}

func orNone(s string) string {
	if s == "" {
		return "(none)"
	}
	return s
}

// Percent writes a share so that only all of it is 100%.
func Percent(share float64) string {
	if share < 1 && share > 0.999 {
		return "99.9%"
	}
	return fmt.Sprintf("%.1f%%", 100*share)
}

// Slashed reads a path inside a lane as people type it.
func Slashed(p string) string { return strings.TrimSuffix(filepath.ToSlash(p), "/") }

// LaneWord says "lane" or "lanes".
func LaneWord(n int) string {
	if n == 1 {
		return "lane"
	}
	return "lanes"
}

func isAre(n int) string {
	if n == 1 {
		return "1 is"
	}
	return Comma(n) + " are"
}

// CountWere counts things that were something.
func CountWere(n int, what string) string {
	if n == 1 {
		return "1 " + what + " was"
	}
	return Count(n, what) + " were"
}

// AreIs says " is" or " are".
func AreIs(n int) string {
	if n == 1 {
		return " is"
	}
	return " are"
}

// OddPaths lists the paths of what cannot be recorded.
func OddPaths(odd []scan.Oddity) []string {
	list := []string{}
	for _, o := range odd {
		list = append(list, o.Path)
	}
	return list
}

// Share writes how much of a whole is there.
func Share(part, whole int64) string {
	switch {
	case whole == 0 || part >= whole:
		return "all"
	case part == 0:
		return "nothing"
	}
	return Percent(float64(part) / float64(whole))
}

// CountAre counts things that are something.
func CountAre(n int, what string) string { return Count(n, what) + AreIs(n) }

// Names lists the paths of the first few files.
func Names(list []plan.Entry, most int) string {
	var names []string
	for _, e := range list {
		names = append(names, e.Path)
	}
	return Some(names, most)
}

// Some lists the first few of a list, and how many more there are.
func Some(list []string, most int) string {
	if more := len(list) - most; more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), more)
	}
	return strings.Join(list, ", ")
}
