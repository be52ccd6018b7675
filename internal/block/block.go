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

	"morvant/internal/digest"
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
	k := kinds[r.Kind]
	if k == nil {
		return fmt.Errorf("%w: there is no kind \"%s\"; use %s, %s or %s", ErrRule, r.Kind, Setting, ReadOnly, Occupy)
	}
	if why := k.check(r); why != "" {
		return fmt.Errorf("%w: %s: %s", ErrRule, r.Kind, why)
	}
	return nil
}

// kind is one way of blocking.
type kind interface {
	check(r Rule) (why string) // what speaks against a rule as it is written
	describe(r Rule) string
	watched(r Rule, at Site) string
	// prepare notes what is there, set does what the rule says, state says what broke it, lift puts back what was found.
	prepare(h *Applied, at Site) error
	set(h *Applied, at Site) error
	state(h *Applied, at Site) (broke, prepared string)
	lift(h *Applied, at Site, force bool) error
	byHand(h *Applied) string
}

var kinds = map[string]kind{Setting: setting{}, ReadOnly: readOnly{}, Occupy: occupy{}}

func (r Rule) matches() int {
	if r.Count == 0 {
		return 1
	}
	return r.Count
}

// Describe says in plain words what the rule does.
func (r Rule) Describe() string {
	if k := kinds[r.Kind]; k != nil {
		return k.describe(r)
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
	if k := kinds[r.Kind]; k != nil {
		return k.watched(r, p)
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

// Stands is what "broke" one that this home has not set and that stands: another has, or this one before it was put back.
const Stands = "it stands, though this home has not set it: once it is set here, it can be taken off"

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
func (h *Applied) ByHand() string { return h.kind().byHand(h) }

// Prepare notes what a rule will find, without changing anything. The note must be
// kept before Set is called.
func Prepare(r Rule, at Site) (*Applied, error) {
	if err := r.Check(); err != nil {
		return nil, err
	}
	h := &Applied{Rule: r}
	return h, kinds[r.Kind].prepare(h, at)
}

// kind is that of the rule; of one that this version does not know, whatever has no files to be touched.
func (h *Applied) kind() kind {
	if k := kinds[h.Rule.Kind]; k != nil {
		return k
	}
	return readOnly{}
}

// Set does what the rule says. Setting again does nothing.
func (h *Applied) Set(at Site) error { return h.kind().set(h, at) }

// Check says how the rule stands.
func (h *Applied) Check(at Site) State {
	s := State{Rule: h.Rule, Left: h.Linked}
	s.Broke, s.Prepared = h.kind().state(h, at)
	s.Holds = s.Broke == ""
	return s
}

// Lift puts back what was found. With force also where somebody has changed it
// since; else that is ErrTouched, and nothing is changed.
func (h *Applied) Lift(at Site, force bool) error { return h.kind().lift(h, at, force) }
