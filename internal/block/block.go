// Package block keeps a launcher from updating a lane, with means that can be
// taken back exactly: a value in the launcher's own settings, files that cannot be
// written, a path that is taken.
//
// Set notes what it found before it changes anything; Lift puts exactly that back.
// What somebody else has changed since is left alone and reported. Nothing here
// stops a program with administrator's rights.
package block

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/digest"
	"morvant/internal/edit"
	"morvant/internal/keyed"
	"morvant/internal/userpath"
)

// Errors that callers test for.
var (
	ErrRule    = errors.New("the block rule cannot be used")
	ErrTouched = errors.New("somebody has changed it since the block was set")
)

// Kinds of rules.
const (
	Setting  = "setting"
	ReadOnly = "read-only"
	Occupy   = "occupy"
)

// Rule is one way of blocking, as people write it down.
type Rule struct {
	Kind string `toml:"kind"`
	// Of a setting: the file, a pattern with one captured value (one line, RE2),
	// the value that is wanted, how many matches there are.
	File  string `toml:"file,omitempty"`
	Find  string `toml:"find,omitempty"`
	Set   string `toml:"set,omitempty"`
	Count int    `toml:"count,omitempty"`
	// Or, for a file that is structured, its format and the path of the key in it.
	Format string `toml:"format,omitempty"`
	Key    string `toml:"key,omitempty"`
	// Of read-only: also the immutable attribute, where that is permitted.
	Immutable bool `toml:"immutable,omitempty"`
	// Of occupy: the path that is held.
	Path string `toml:"path,omitempty"`
}

// Check returns an error unless the rule can be used.
func (r Rule) Check() error {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s: %s", ErrRule, r.Kind, fmt.Sprintf(format, args...))
	}
	switch r.Kind {
	case Setting:
		if r.File == "" || r.Set == "" || (r.Find == "") == (r.Key == "") {
			return bad("file, set, and either find or format and key are needed")
		}
		if r.Count < 0 || r.Path != "" || r.Immutable || r.Key != "" && r.Count != 0 || r.Find != "" && r.Format != "" {
			return bad("it may have file, find, set and count, or file, format, key and set, and nothing else")
		}
		if r.Key != "" {
			if !slices.Contains(keyed.Formats(), keyed.Format(r.Format)) {
				return bad("there is no format \"%s\"; use %s", r.Format, listFormats())
			}
			if _, err := keyed.ParsePath(r.Key); err != nil {
				return bad("%v", err)
			}
			return nil
		}
		if _, err := edit.Compile(r.Find); err != nil {
			return bad("%v", err)
		}
	case ReadOnly:
		if r.File != "" || r.Find != "" || r.Set != "" || r.Count != 0 || r.Path != "" || r.Format+r.Key != "" {
			return bad("it may have immutable, and nothing else")
		}
	case Occupy:
		if r.Path == "" || r.File != "" || r.Find != "" || r.Set != "" || r.Count != 0 || r.Immutable || r.Format+r.Key != "" {
			return bad("it may have path, and nothing else")
		}
	default:
		return fmt.Errorf("%w: there is no kind \"%s\"; use %s, %s or %s", ErrRule, r.Kind, Setting, ReadOnly, Occupy)
	}
	return nil
}

func listFormats() string {
	var names []string
	for _, f := range keyed.Formats() {
		names = append(names, string(f))
	}
	return strings.Join(names, ", ")
}

func (r Rule) matches() int {
	if r.Count == 0 {
		return 1
	}
	return r.Count
}

// Describe says in plain words what the rule does.
func (r Rule) Describe() string {
	switch r.Kind {
	case Setting:
		if r.Key != "" {
			return fmt.Sprintf("sets %s to \"%s\" in %s, so that the launcher itself holds back", r.Key, r.Set, r.File)
		}
		return fmt.Sprintf("sets \"%s\" in %s, so that the launcher itself holds back", r.Set, r.File)
	case ReadOnly:
		if r.Immutable {
			return "makes the build's files read-only and immutable, so that an updater cannot replace or remove them"
		}
		return "makes the build's files read-only, so that an updater cannot change them in place"
	case Occupy:
		return fmt.Sprintf("blocks %s with an empty file, so that an updater cannot put its downloads there", r.Path)
	}
	return ""
}

// Site is where rules apply.
type Site struct {
	Dir   string   // the live folder; relative paths start here
	Files []string // the build's files, relative to Dir, with slashes: what read-only is about
	Home  string   // what ~ stands for
}

// check returns an error unless a rule may have to do with a path: a variable in it must
// be set, and nothing may be held that holds the game, a home or a disk.
func (p Site) check(path string) error {
	bad := func(why string) error { return fmt.Errorf("%w: \"%s\" %s", ErrRule, path, why) }
	if unset := userpath.Unset(path, p.Home); len(unset) > 0 {
		return bad("names " + unset[0] + ", which is not set on this computer")
	}
	full := p.resolve(path)
	switch {
	case filepath.Dir(full) == full:
		return bad("is the root of a file system")
	case userpath.Within(p.Dir, full):
		return bad("is the game's folder or holds it")
	case p.Home != "" && userpath.Within(p.Home, full):
		return bad("is your home folder or holds it")
	}
	return nil
}

// holdsBuild names a file of the build at a path or within it; empty if there is none.
func (p Site) holdsBuild(full string) string {
	for _, f := range p.Files {
		if userpath.Within(filepath.Join(p.Dir, filepath.FromSlash(f)), full) {
			return f
		}
	}
	return ""
}

// resolve makes a path of a rule full.
func (p Site) resolve(path string) string { return userpath.Expand(path, p.Home, p.Dir) }

// Watched returns the path whose changes matter to a rule; empty if it is about the
// lane's own files.
func (p Site) Watched(r Rule) string {
	switch r.Kind {
	case Setting:
		return p.resolve(r.File)
	case Occupy:
		return p.resolve(r.Path)
	}
	return ""
}

// Applied is a rule that has been set, and what it found.
type Applied struct {
	Rule   Rule            `json:"rule"`
	Path   string          `json:"path,omitempty"`   // of a setting and of occupy, in full
	Values []string        `json:"values,omitempty"` // of a setting, in the order of the matches
	Raw    [][]byte        `json:"raw,omitempty"`    // the same as bytes of the file; notes of old versions have none
	Modes  map[string]Mode `json:"modes,omitempty"`  // of read-only, by path
	Linked int             `json:"linked,omitempty"` // of read-only: files with other names elsewhere, which are left alone
	Aside  string          `json:"aside,omitempty"`  // of occupy: where what was there has been put
	Later  []string        `json:"later,omitempty"`  // of occupy: where what came there since has been put
	Made   []string        `json:"made,omitempty"`   // of occupy: folders that were made for it, the outermost first
	Beside []string        `json:"beside,omitempty"` // of occupy: what was beside the path already, under a name like its own
	// Of a setting whose key was not there: the text that was put in with it.
	Missing bool   `json:"missing,omitempty"`
	Added   string `json:"added,omitempty"`
	// Of a setting: how the file was found.
	Found *Found `json:"found,omitempty"`
	// Loose says that immutable files have been let go for a change of the lane; it
	// must be set again when that is over, or was cut off.
	Loose bool `json:"loose,omitempty"`

	renamed []string // files that may have been made read-only under another name; known once it is lifted
}

// Found is how a launcher's file was found.
type Found struct {
	Digest digest.Digest `json:"digest"`
	MTime  int64         `json:"mtime"` // nanoseconds since 1970
}

// Mode is how a file was found.
type Mode struct {
	Perm os.FileMode `json:"perm"`
}

// NotSet is what "broke" a rule that the settings ask for and that was never set.
const NotSet = "not set"

// State is how a rule stands.
type State struct {
	Rule  Rule
	Holds bool
	Broke string // what broke it, for people
	Left  int    // files that read-only leaves alone, because they have other names elsewhere
	// Prepared is a folder beside a path that is held, in which an update is being prepared.
	Prepared string
}

// ByHand says what was found and what was set instead, for somebody who puts it back by hand.
func (h *Applied) ByHand() string {
	switch h.Rule.Kind {
	case Setting:
		if h.Missing {
			return fmt.Sprintf("%s was not in %s; Morvant added it with the value \"%s\": remove it there", h.Rule.Key, h.Path, h.Rule.Set)
		}
		found := `"` + strings.Join(h.Values, `" "`) + `"` // in their order
		return fmt.Sprintf("in %s it was %s, and Morvant set it to \"%s\": change it back there", h.Path, found, h.Rule.Set)
	case Occupy:
		if h.Aside != "" {
			return fmt.Sprintf("Morvant blocks %s; what was there before is in %s: move it back", h.Path, h.Aside)
		}
		return fmt.Sprintf("Morvant blocks %s, where nothing was before: remove the file there", h.Path)
	}
	return fmt.Sprintf("%d files of the game were writable before", len(h.Modes))
}

// Prepare notes what a rule will find, without changing anything. The note must be
// kept before Set is called.
func Prepare(r Rule, at Site) (*Applied, error) {
	if err := r.Check(); err != nil {
		return nil, err
	}
	h := &Applied{Rule: r}
	switch r.Kind {
	case Setting:
		return h, h.prepareSetting(at)
	case Occupy:
		return h, h.prepareOccupy(at)
	}
	return h, h.prepareReadOnly(at)
}

// Set does what the rule says. Setting again does nothing.
func (h *Applied) Set(at Site) error {
	switch h.Rule.Kind {
	case Setting:
		return h.setSetting()
	case Occupy:
		return h.setOccupy()
	}
	return h.setReadOnly(at)
}

// Check says how the rule stands.
func (h *Applied) Check(at Site) State {
	s := State{Rule: h.Rule, Left: h.Linked}
	switch h.Rule.Kind {
	case Setting:
		s.Broke = h.checkSetting()
	case Occupy:
		s.Broke, s.Prepared = h.checkOccupy()
	default:
		s.Broke = h.checkReadOnly(at)
	}
	s.Holds = s.Broke == ""
	return s
}

// Lift puts back what was found. With force also where somebody has changed it
// since; else that is ErrTouched, and nothing is changed.
func (h *Applied) Lift(at Site, force bool) error {
	switch h.Rule.Kind {
	case Setting:
		return h.liftSetting(force)
	case Occupy:
		return h.liftOccupy(force)
	}
	return h.liftReadOnly(at)
}
