// Package plan works out how a folder gets from what it holds to what it should
// hold. It is pure: states and rules go in, steps come out, nothing is touched.
package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"morvant/internal/digest"
	"morvant/internal/problem"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/volume"
)

// ErrConflict is returned when the target cannot be reached without removing
// something that must stay.
var ErrConflict = problem.New("something is in the way", "Nothing was changed")

// Request is what is asked of a folder.
type Request struct {
	Have  State
	Odd   []scan.Oddity // what is there but cannot be recorded: never touched
	Want  State
	Rules rules.Rules
	// Owned is the build that the lane was brought to before. Its files that
	// are as built leave with it.
	Owned State
	// Clean removes files that are not wanted; otherwise they stay, as extra.
	Clean bool
	// Exact brings the folder to Want whole: keep rules do not hold.
	Exact bool
	// Links says that a link that leads out of the folder goes, too, where it is not wanted. Else it is the
	// player's own, whoever asks for a clean folder, and stays unless it is in the way.
	Links bool
	// Folders says that folders get the times and modes that are wanted also where nothing comes into them or goes.
	Folders bool
	// LeftOut are paths at which nothing is to be, unless it is the player's.
	LeftOut []string
	// IgnoresCase says that names which differ by case only are one.
	IgnoresCase bool
	// Doubles says that the folder can hold them apart all the same.
	Doubles bool
}

// Plan is what has to be done, and what is left alone.
type Plan struct {
	Steps []Step  // sorted by path
	Extra []Entry // files that are not wanted but stay, the biggest first
	Kept  int     // files under keep rules, left as they are
	Same  int     // files that are as wanted already
	// Yielded lists files and links of the wanted state that rules leave to the player:
	// whatever is there instead stays, and nobody looks at it.
	Yielded []string
}

// Totals sums up a plan for people and for the check of free space.
type Totals struct {
	Replaced, Added, Removed, Moved, Retimed int   // files and links
	Write                                    int64 // bytes to be written; what becomes one with a file elsewhere takes none
	RemovedBytes                             int64
	Made, Unmade                             int // folders
}

// Totals sums up the plan.
func (p *Plan) Totals() Totals {
	var t Totals
	moved := make(map[string]bool)
	for i := range p.Steps {
		if s := &p.Steps[i]; s.From != "" {
			moved[s.From] = true
		}
	}
	for i := range p.Steps {
		s := &p.Steps[i]
		if s.Writes() && s.After.Other.Name == "" {
			t.Write += s.After.Size
		}
		switch {
		case s.Places() && s.From != "" && !s.Displaces():
			t.Moved++
		case s.Places() && s.Displaces():
			t.Replaced++
		case s.Places():
			t.Added++
		case s.Displaces() && !moved[s.Path]:
			t.Removed++
			t.RemovedBytes += s.Before.Size
		case s.KeepsContent() && s.After.Kind != Dir:
			t.Retimed++
		}
		was, is := s.Before != nil && s.Before.Kind == Dir, s.After != nil && s.After.Kind == Dir
		switch {
		case is && !was:
			t.Made++
		case was && !is:
			t.Unmade++
		}
	}
	return t
}

// Empty reports whether there is nothing to do.
func (p *Plan) Empty() bool { return len(p.Steps) == 0 }

// Make works out the plan.
func Make(r Request) (*Plan, error) {
	if r.IgnoresCase && !r.Doubles {
		if a, b, found := r.Want.Manifest().CaseConflict(); found {
			return nil, fmt.Errorf("%w: this folder cannot hold both \"%s\" and \"%s\", whose names differ only by case", ErrConflict, a, b)
		}
	}
	if r.IgnoresCase {
		spelling := SpellingOf(r.Have, r.Odd...)
		spelling.Doubles = r.Doubles
		r.Want, r.Owned = spelling.State(r.Want), spelling.State(r.Owned)
		r.LeftOut = spelling.Paths(r.LeftOut)
	}
	m := &maker{
		Request: r, match: r.Rules.Matcher(), plan: &Plan{},
		at: make(map[string]int), placed: make(map[string]bool), needed: make(map[string]bool), emptied: make(map[string]bool), out: make(map[string]bool),
	}
	for _, p := range r.LeftOut {
		m.out[p] = true
	}
	m.leaves()
	m.moves()
	m.emptyFolders()
	if err := m.clear(); err != nil {
		return nil, err
	}
	m.folders()
	for i := range m.plan.Steps {
		if s := &m.plan.Steps[i]; s.After != nil && !volume.CanHold(s.Path) {
			return nil, fmt.Errorf("%w: no folder of this system can hold the name \"%s\"", ErrConflict, s.Path)
		}
	}
	slices.SortFunc(m.plan.Steps, func(a, b Step) int { return strings.Compare(a.Path, b.Path) })
	m.sources()
	slices.SortFunc(m.plan.Extra, BiggestFirst)
	return m.plan, nil
}

type maker struct {
	Request
	match   *rules.Matcher
	plan    *Plan
	at      map[string]int  // the step of a path, while they are not sorted
	stays   []Entry         // files and links that are not wanted and would stay
	placed  map[string]bool // where the target puts files and links that are not there yet
	needed  map[string]bool // folders that must be there afterwards
	emptied map[string]bool // folders that something leaves or comes into
	out     map[string]bool // where nothing is to be
}

// takes reports whether the wanted state decides about p.
func (m *maker) takes(p string) bool {
	return !m.match.Scratch(p) && (m.Exact || !m.match.Kept(p))
}

// leaves decides about every file and link.
func (m *maker) leaves() {
	i, j := 0, 0
	for i < len(m.Have) || j < len(m.Want) {
		var have, want *Entry
		switch {
		case j == len(m.Want) || i < len(m.Have) && m.Have[i].Path < m.Want[j].Path:
			have = &m.Have[i]
			i++
		case i == len(m.Have) || m.Want[j].Path < m.Have[i].Path:
			want = &m.Want[j]
			j++
		default:
			have, want = &m.Have[i], &m.Want[j]
			i++
			j++
		}
		if have != nil && have.Kind == Dir {
			have = nil
		}
		switch {
		case want == nil:
		case want.Kind == Dir:
			want = nil
		case !m.takes(want.Path):
			m.plan.Yielded = append(m.plan.Yielded, want.Path)
			want = nil
		}
		m.leaf(have, want)
	}
}

func (m *maker) leaf(have, want *Entry) {
	switch {
	case want == nil && have == nil:
	case want == nil:
		m.unwanted(*have)
	case have == nil:
		m.step(Step{Path: want.Path, After: &want.Node})
		addParents(m.needed, want.Path)
	default:
		addParents(m.needed, want.Path)
		switch {
		case !have.SameContent(want.Node):
			m.step(Step{Path: want.Path, Before: &have.Node, After: &want.Node})
		case have.Kind == File && !have.sameAttributes(want.Node):
			m.plan.Same++
			m.add(Step{Path: want.Path, Before: &have.Node, After: &want.Node})
		default:
			m.plan.Same++
		}
	}
}

// step adds a step that changes what its folder lists.
func (m *maker) step(s Step) {
	m.add(s)
	m.emptied[path.Dir(s.Path)] = true
}

// add adds a step; where a file makes way for a folder or the reverse, the two
// halves become one.
func (m *maker) add(s Step) {
	i, ok := m.at[s.Path]
	if !ok {
		m.at[s.Path] = len(m.plan.Steps)
		m.plan.Steps = append(m.plan.Steps, s)
		return
	}
	if s.Before != nil {
		m.plan.Steps[i].Before = s.Before
	}
	if s.After != nil {
		m.plan.Steps[i].After = s.After
	}
}

// unwanted decides about a file or link that the target does not have.
func (m *maker) unwanted(have Entry) {
	if !m.Exact && m.match.Kept(have.Path) {
		m.plan.Kept++
		m.stays = append(m.stays, have)
		return
	}
	owned, ok := m.Owned.Get(have.Path)
	if (m.Clean || m.Exact) && (m.Links || !have.LeadsOut()) || m.out[have.Path] || ok && owned.SameContent(have.Node) {
		m.remove(have)
		return
	}
	m.stays = append(m.stays, have)
}

func (m *maker) remove(have Entry) {
	m.step(Step{Path: have.Path, Before: &have.Node})
}

// moves finds files that would stay as extra but are the build's under another
// name: their content is wanted at a path where there is nothing. They move.
func (m *maker) moves() {
	absent := make(map[digest.Digest]int)
	for i := range m.plan.Steps {
		if s := &m.plan.Steps[i]; s.Before == nil && s.After.Kind == File && s.After.Size > 0 {
			absent[s.After.Digest]++
		}
	}
	if len(absent) == 0 {
		return
	}
	m.stays = slices.DeleteFunc(m.stays, func(e Entry) bool {
		if e.Kind != File || absent[e.Digest] == 0 || m.match.Kept(e.Path) {
			return false
		}
		absent[e.Digest]--
		m.remove(e)
		return true
	})
}

// clear makes room: what would stay but stands where the target has a folder, or
// lies in a folder where the target has a file, has to go if nobody claims it.
func (m *maker) clear() error {
	for i := range m.plan.Steps {
		if s := &m.plan.Steps[i]; s.Places() {
			m.placed[s.Path] = true
		}
	}
	for _, o := range m.Odd {
		if m.inTheWay(o.Path) || m.placed[o.Path] {
			return fmt.Errorf("%w: %s is %s, which Morvant leaves alone; move it away first", ErrConflict, o.Path, o.What)
		}
		addParents(m.needed, o.Path)
	}
	for _, e := range m.stays {
		switch {
		case !m.inTheWay(e.Path):
			addParents(m.needed, e.Path)
			if !m.match.Kept(e.Path) && !e.LeadsOut() {
				m.plan.Extra = append(m.plan.Extra, e)
			}
		case m.match.Kept(e.Path):
			return fmt.Errorf("%w: %s is kept by your rules, but the build needs its place; move it away first", ErrConflict, e.Path)
		default:
			m.remove(e)
		}
	}
	return nil
}

// inTheWay reports whether the target has a folder at p, or a file above it.
func (m *maker) inTheWay(p string) bool {
	if m.needed[p] {
		return true
	}
	for d := path.Dir(p); d != "."; d = path.Dir(d) {
		if m.placed[d] {
			return true
		}
	}
	return false
}

// emptyFolders makes the empty folders of the target needed, so that clear makes room
// for them as for any other.
func (m *maker) emptyFolders() {
	filled := make(map[string]bool)
	for _, e := range m.Want {
		filled[path.Dir(e.Path)] = true
	}
	for _, e := range m.Want {
		if e.Kind == Dir && !filled[e.Path] && (m.takes(e.Path) || m.match.Scratch(e.Path)) {
			addParents(m.needed, e.Path)
			m.needed[e.Path] = true
		}
	}
}

// folders decides which folders come, go and get their time back.
func (m *maker) folders() {
	held := make(map[string]bool) // folders that hold something now
	for _, e := range m.Have {
		held[path.Dir(e.Path)] = true
	}
	// Folders that nothing passes through stay if they were empty before, unless
	// the target is to be met without extras.
	for _, e := range m.Have {
		if e.Kind != Dir || m.needed[e.Path] || held[e.Path] && !m.match.Scratch(e.Path) {
			continue
		}
		_, owned := m.Owned.Get(e.Path)
		want, wanted := m.Want.Get(e.Path)
		replaced := m.inTheWay(e.Path) || wanted && want.Kind != Dir && m.takes(e.Path)
		if m.match.Scratch(e.Path) && !m.inTheWay(e.Path) || !replaced && (!m.Exact && m.match.Kept(e.Path) || !m.Clean && !m.Exact && !owned) {
			addParents(m.needed, e.Path)
			m.needed[e.Path] = true
		}
	}
	for _, e := range m.Have {
		if e.Kind == Dir {
			m.folder(e)
		}
	}
	for d := range m.needed {
		if have, ok := m.Have.Get(d); ok && have.Kind == Dir {
			continue
		}
		after := Node{Kind: Dir}
		if want, ok := m.Want.Get(d); ok && want.Kind == Dir {
			after = want
		}
		m.add(Step{Path: d, After: &after})
	}
}

func (m *maker) folder(have Entry) {
	if !m.needed[have.Path] {
		m.add(Step{Path: have.Path, Before: &have.Node})
		return
	}
	want, ok := m.Want.Get(have.Path)
	if !ok || want.Kind != Dir || !m.takes(have.Path) {
		want = Node{Kind: Dir}
	}
	if want.Mode != 0 && !m.Exact && have.Mode != 0 && have.Mode&0o200 == 0 {
		want.Mode = have.Mode // one that somebody has made read-only stays so
	}
	// Changing what a folder lists changes its time, so its old time is part of
	// what has to be remembered.
	if m.emptied[have.Path] || (m.Exact || m.Folders) && !have.sameAttributes(want) {
		m.add(Step{Path: have.Path, Before: &have.Node, After: &want})
	}
}

// sources finds content that is already in the folder: files that leave their
// place and can move, and files that stay and can be copied.
func (m *maker) sources() {
	steps := m.plan.Steps
	leaving := make(map[digest.Digest][]string)
	wanted := make(map[digest.Digest]bool)
	for i := range steps {
		s := &steps[i]
		if s.Displaces() && s.Before.Kind == File && s.Before.Size > 0 {
			leaving[s.Before.Digest] = append(leaving[s.Before.Digest], s.Path)
		}
		if s.Writes() && s.After.Size > 0 {
			wanted[s.After.Digest] = true
		}
	}
	displaced := make(map[string]bool)
	for _, list := range leaving {
		for _, p := range list {
			displaced[p] = true
		}
	}
	staying := make(map[digest.Digest]string)
	for _, e := range m.Have {
		if e.Kind == File && wanted[e.Digest] && !displaced[e.Path] {
			staying[e.Digest] = e.Path
		}
	}
	for i := range steps {
		s := &steps[i]
		if !s.Writes() || s.After.Size == 0 || s.After.Other.Name != "" {
			continue
		}
		if from := leaving[s.After.Digest]; len(from) > 0 {
			s.From = from[0]
			leaving[s.After.Digest] = from[1:]
		} else {
			s.Copy = staying[s.After.Digest]
		}
	}
}
