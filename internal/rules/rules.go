// Package rules decides whose a file is: the build's, the player's (keep rules) or
// nobody's (scratch rules). Rules are doublestar patterns over paths relative to
// the live folder; a rule that matches a folder holds for everything in it. Letter case
// counts where the system's folders usually mind it.
package rules

import (
	"errors"
	"fmt"
	"path"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"morvant/internal/volume"
)

// Rules are the patterns of one game.
type Rules struct {
	Keep    []string // files that belong to the player
	Scratch []string // files nobody misses
	// Except are single paths that no keep rule is about.
	Except []string
	// Leave are single paths that are the player's, whatever the rules say.
	Leave []string
	// IgnoreCase says that letter case does not count, whatever is usual for the system's folders.
	IgnoreCase bool
}

// Fold returns what all spellings of a path have in common.
func (r Rules) Fold(p string) string {
	if r.IgnoreCase {
		return volume.Fold(p)
	}
	return volume.UsualFold(p)
}

// Limits of a pattern, which may be somebody else's: a match may try every way of choosing
// among its alternatives.
const (
	maxPattern = 1000 // bytes
	maxChoices = 256
	maxTotal   = 4096 // choices in all patterns of a list
)

// choices returns an upper bound of the ways to choose in {a,b}{c,d}.
func choices(p string) int {
	n, here := 1, []int{}
	for i := 0; i < len(p) && n <= maxChoices; i++ {
		switch p[i] {
		case '\\':
			i++
		case '{':
			here = append(here, 1)
		case ',':
			if len(here) > 0 {
				here[len(here)-1]++
			}
		case '}':
			if len(here) > 0 {
				n *= here[len(here)-1]
				here = here[:len(here)-1]
			}
		}
	}
	return n
}

// ErrPattern is returned for a pattern that cannot be used.
var ErrPattern = errors.New("this pattern cannot be used")

// Check returns an error naming the first pattern that cannot be used.
func (r Rules) Check() error {
	for _, list := range [][]string{r.Keep, r.Scratch} {
		total := 0
		for _, p := range list {
			if total += choices(p); total > maxTotal {
				return fmt.Errorf("%w: there are too many patterns, up to \"%.60s\"", ErrPattern, p)
			}
			switch {
			case strings.TrimSpace(p) == "" || !doublestar.ValidatePattern(p):
				return fmt.Errorf("%w: \"%s\" cannot be read", ErrPattern, p)
			case len(p) > maxPattern || choices(p) > maxChoices:
				return fmt.Errorf("%w: \"%.60s\" has too many choices in it; write several patterns", ErrPattern, p)
			case strings.HasPrefix(p, "/") || strings.Contains(p, `\`) || path.Clean(p) == ".." || strings.HasPrefix(path.Clean(p), "../"):
				return fmt.Errorf("%w: \"%s\" must be relative to the live folder, with forward slashes", ErrPattern, p)
			}
		}
	}
	return nil
}

// Matcher answers for many paths, remembering what it found for their folders.
// Several goroutines may use it at once.
type Matcher struct {
	keep, scratch *Set
	fold          func(string) string
	except, leave map[string]bool
}

// Matcher returns a matcher for r.
func (r Rules) Matcher() *Matcher {
	m := &Matcher{keep: r.Set(r.Keep), scratch: r.Set(r.Scratch), fold: r.Fold, except: make(map[string]bool), leave: make(map[string]bool)}
	for _, p := range r.Leave {
		m.leave[r.Fold(p)] = true
	}
	for _, p := range r.Except {
		m.except[r.Fold(p)] = true
	}
	return m
}

// Kept reports whether the file or folder at p belongs to the player.
func (m *Matcher) Kept(p string) bool {
	fold := m.fold(p)
	return m.leave[fold] || m.keep.Match(p) && !m.except[fold]
}

// Scratch reports whether nobody misses the file or folder at p.
func (m *Matcher) Scratch(p string) bool { return m.scratch.Match(p) }

// Set is a list of patterns. A path is in it if it or a folder above it matches
// one. Several goroutines may use it at once.
type Set struct {
	patterns []string
	fold     func(string) string
	dirs     sync.Map // folder to bool
}

// Literal returns the pattern that matches a path and nothing else.
func Literal(p string) string {
	var b strings.Builder
	for _, r := range p {
		if strings.ContainsRune(`*?[{}`, r) { // a class of one; a backslash is a slash to many who type it
			b.WriteString("[" + string(r) + "]")
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Typed returns the pattern that somebody means who has typed this: backslashes are slashes, one at the end says
// nothing, and a full path in one of the folders is relative to it.
func Typed(pattern string, folders ...string) string {
	p := strings.ReplaceAll(pattern, `\`, "/")
	for _, dir := range folders {
		dir = strings.TrimRight(strings.ReplaceAll(dir, `\`, "/"), "/") + "/"
		if len(p) > len(dir) && volume.UsualFold(p[:len(dir)]) == volume.UsualFold(dir) {
			p = p[len(dir):]
			break
		}
	}
	if rest := strings.TrimPrefix(p, "./"); rest != "" {
		p = rest
	}
	if rest := strings.TrimRight(p, "/"); rest != "" {
		p = rest
	}
	return p
}

// NewSet returns the set of the patterns, which Rules.Check has checked. Letter case counts as it usually
// does on this system.
func NewSet(patterns []string) *Set { return Rules{}.Set(patterns) }

// Set is NewSet with letter case as the rules have it.
func (r Rules) Set(patterns []string) *Set {
	clean := make([]string, len(patterns))
	for i, p := range patterns {
		clean[i] = r.Fold(path.Clean(p))
	}
	return &Set{patterns: clean, fold: r.Fold}
}

// Match reports whether p is in the set.
func (s *Set) Match(p string) bool {
	return len(s.patterns) != 0 && s.match(s.fold(p))
}

func (s *Set) match(p string) bool {
	if i := strings.LastIndexByte(p, '/'); i != -1 {
		dir := p[:i]
		matched, known := s.dirs.Load(dir)
		if !known {
			matched = s.match(dir)
			s.dirs.Store(dir, matched)
		}
		if matched.(bool) {
			return true
		}
	}
	for _, pattern := range s.patterns {
		if doublestar.MatchUnvalidated(pattern, p) {
			return true
		}
	}
	return false
}
