// Package saves keeps the player's saved games: it finds their folders, records them
// in the store, and puts a record back. In go patterns of folders and a store, out
// come backups; a folder is changed by plan and apply, as a lane is. Which backups
// there are is remembered by package game.
package saves

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"morvant/internal/apply"
	"morvant/internal/damage"
	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/problem"
	"morvant/internal/progress"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/store"
	"morvant/internal/userpath"
	"morvant/internal/volume"
)

// Errors that callers test for.
var (
	ErrPattern = errors.New("saves cannot be there")
	ErrTooMuch = errors.New("that is too much for saves")
	// ErrLeftOut is returned where saves would be left behind.
	ErrLeftOut = problem.New("Morvant cannot record some of the saves", "Nothing was moved. Rename it, or give yourself the right to read it, then run the command again")
)

// Limits of what is taken for saves.
const (
	MaxFiles = 100_000
	MaxBytes = 50 << 30
)

// Check returns an error if a pattern of the settings cannot be used.
func Check(pattern string) error {
	if strings.TrimSpace(pattern) == "" || !doublestar.ValidatePattern(filepath.ToSlash(pattern)) {
		return fmt.Errorf("%w: the pattern \"%s\" cannot be read", ErrPattern, pattern)
	}
	if pattern == ".." || strings.HasPrefix(filepath.ToSlash(pattern), "../") {
		return fmt.Errorf("%w: \"%s\" leaves the live folder; write the full path, or begin with ~", ErrPattern, pattern)
	}
	if strings.Contains(pattern, "**") {
		return fmt.Errorf("%w: \"%s\" names folders at any depth; name one depth with *", ErrPattern, pattern)
	}
	return nil
}

// Place is one folder of saves.
type Place struct {
	Path   string `json:"path"`             // full, or relative to the lane's folder
	Inside bool   `json:"inside,omitempty"` // it lies inside the lane's folder
	// Only is the one file in it that belongs to the saves, by a link in another place; empty: all of it does.
	Only string `json:"only,omitempty"`
}

// In returns the full path of the place, for a lane in dir.
func (p Place) In(dir string) string {
	if p.Inside {
		return filepath.Join(dir, filepath.FromSlash(p.Path))
	}
	return p.Path
}

// Finder finds the folders of saves.
type Finder struct {
	Patterns []string
	Dir      string   // the lane's folder; relative patterns start here
	Home     string   // what ~ stands for
	Own      []string // folders of Morvant and other lanes, where no saves can be
}

// Check returns an error if patterns cannot be added: a variable in one is not set, one
// names a folder that saves cannot be, or what they name overlaps, also with the others.
func (f Finder) Check(added []string) error {
	for _, pattern := range added {
		if err := Check(pattern); err != nil {
			return err
		}
		if err := userpath.Full(pattern); err != nil {
			return fmt.Errorf("%w: %w", ErrPattern, err)
		}
		if unset := userpath.Unset(pattern, f.Home); len(unset) > 0 {
			return fmt.Errorf("%w: \"%s\": %s is not set on this computer", ErrPattern, pattern, unset[0])
		}
	}
	f.Patterns = slices.Concat(f.Patterns, added)
	places, _, err := f.Find()
	if err != nil {
		return err
	}
	for _, pattern := range added {
		// Also where nothing is there yet.
		if !strings.ContainsAny(pattern, "*?[") {
			p, err := f.place(userpath.Expand(pattern, f.Home, f.Dir))
			if err != nil {
				return err
			}
			places = append(places, p)
		}
	}
	return f.apart(places)
}

// Find lists the folders there are that match. none lists patterns that match nothing.
func (f Finder) Find() (places []Place, none []string, err error) {
	for _, pattern := range f.Patterns {
		if len(userpath.Unset(pattern, f.Home)) > 0 {
			none = append(none, pattern) // without the variable it would mean another place
			continue
		}
		matches, err := f.glob(pattern)
		if err != nil {
			return nil, nil, fmt.Errorf("%w: \"%s\": %v", ErrPattern, pattern, err)
		}
		found := false
		for _, m := range matches {
			info, err := os.Stat(m)
			if err != nil || !info.IsDir() {
				continue
			}
			found = true
			p, err := f.place(m)
			if err != nil {
				return nil, nil, err
			}
			if !slices.Contains(places, p) {
				places = append(places, p)
			}
		}
		if !found {
			none = append(none, pattern)
		}
	}
	return places, none, f.apart(places)
}

// Led is a place of saves that is reached by a link.
type Led struct{ Named, Real string }

// Led lists the places that patterns name and that lie elsewhere, for a link is on the way. Links on the way to the home
// folder and to the lane's folder are the player's everyday paths.
func (f Finder) Led(patterns []string) []Led {
	var list []Led
	for _, pattern := range patterns {
		if len(userpath.Unset(pattern, f.Home)) > 0 {
			continue
		}
		matches, _ := f.glob(pattern) // said by Find
		if len(matches) == 0 && !strings.ContainsAny(pattern, "*?[") {
			matches = []string{userpath.Expand(pattern, f.Home, f.Dir)}
		}
		for _, m := range matches {
			usual := filepath.Clean(m)
			for _, base := range []string{f.Home, f.Dir} {
				if real, err := volume.Real(base); base != "" && err == nil && userpath.Within(usual, base) {
					if rel, err := filepath.Rel(base, usual); err == nil {
						usual = filepath.Join(real, rel)
					}
				}
			}
			real, err := volume.Real(m)
			if err == nil && real != usual && !slices.Contains(list, Led{m, real}) {
				list = append(list, Led{m, real})
			}
		}
	}
	return list
}

// apart returns an error if one of the places lies in another: then a change of the one
// would be a change of the other.
func (f Finder) apart(places []Place) error {
	for _, p := range places {
		for _, o := range places {
			if inner, outer := p.In(f.Dir), o.In(f.Dir); p != o && userpath.Within(inner, outer) {
				return fmt.Errorf("%w: %s lies in %s; name only one of them", ErrPattern, inner, outer)
			}
		}
	}
	return nil
}

// glob lists what a pattern matches. In a relative one, signs in the name of the
// lane's folder are no pattern.
func (f Finder) glob(pattern string) ([]string, error) {
	const base = "\x00"
	full := userpath.Expand(pattern, f.Home, base)
	rest, relative := strings.CutPrefix(full, base+string(filepath.Separator))
	if !relative {
		if _, err := os.Stat(full); err == nil {
			return []string{full}, nil // also where its name has signs of a pattern
		}
		return filepath.Glob(full)
	}
	matches, err := fs.Glob(os.DirFS(f.Dir), filepath.ToSlash(rest))
	for i := range matches {
		matches[i] = filepath.Join(f.Dir, filepath.FromSlash(matches[i]))
	}
	return matches, err
}

// place says what a folder is to the lane: where it really lies counts, not by which links
// it was reached.
func (f Finder) place(dir string) (Place, error) {
	real, err := volume.Real(dir)
	if err != nil {
		return Place{}, err
	}
	bad := func(why string) (Place, error) {
		by := ""
		if real != filepath.Clean(dir) {
			by = " (" + dir + " leads there by a link)"
		}
		return Place{}, fmt.Errorf("%w: %s%s %s", ErrPattern, real, by, why)
	}
	if filepath.Dir(real) == real {
		return bad("is the root of a file system")
	}
	around := func(own string) (bool, string) {
		if r, err := volume.Real(own); own != "" && err == nil {
			own = r
		}
		return own != "" && userpath.Within(own, real), own
	}
	if is, _ := around(f.Home); is {
		return bad("is your home folder or holds it")
	}
	is, lane := around(f.Dir)
	if is {
		return bad("is the game's folder or holds it")
	}
	for _, own := range f.Own {
		if is, own := around(own); is || userpath.Within(real, own) {
			return bad("lies in or around " + own)
		}
	}
	if rel, err := filepath.Rel(lane, real); err == nil && filepath.IsLocal(rel) {
		if manifest.IsPrivate(rel) {
			return bad("is Morvant's own folder")
		}
		return Place{Path: filepath.ToSlash(rel), Inside: true}, nil
	}
	return Place{Path: real}, nil
}

// Settle returns a backup as its places are now: one that has been recorded by another
// path is the folder that this path leads to, and it must still be one that can be saves.
// Earlier versions recorded folders in each other; the outer one holds what the inner one has.
func (f Finder) Settle(b *Backup) (*Backup, error) {
	parts := slices.Clone(b.Parts)
	for i := range parts {
		if b.Parts[i].Only != "" {
			continue // where it lies is known by the link
		}
		p, err := f.place(b.Parts[i].In(f.Dir))
		if err != nil {
			return nil, fmt.Errorf("backup %d: %w", b.ID, err)
		}
		parts[i].Place = p
	}
	settled := *b
	settled.Parts = nil
	for i, p := range parts {
		held := slices.ContainsFunc(parts[:i], func(o Part) bool { return o.Place == p.Place }) ||
			slices.ContainsFunc(parts, func(o Part) bool {
				return o.Only == "" && p.Only == "" && o.Place != p.Place && userpath.Within(p.In(f.Dir), o.In(f.Dir))
			})
		if !held {
			settled.Parts = append(settled.Parts, p)
		}
	}
	return &settled, nil
}

// Part is what a backup holds of one folder.
type Part struct {
	Place
	Manifest   digest.Digest `json:"manifest"`
	Attributes digest.Digest `json:"attributes"`
}

// Backup is the saves as they were at one moment.
type Backup struct {
	ID    int64     `json:"id"`
	Game  string    `json:"game"`
	Lane  string    `json:"lane"`
	Made  time.Time `json:"made"`
	Why   string    `json:"why"`   // "before the pin to 1.1.1"
	Build string    `json:"build"` // label of what the lane was held to
	Parts []Part    `json:"parts"`
	Files int       `json:"files"`
	Bytes int64     `json:"bytes"`
	// Doubt says why it may not be whole: something could not be recorded, or looks like damage; empty: nothing does.
	Doubt string `json:"doubt,omitempty"`
	// LeftOut says in sentences what of the saves could not be recorded, of a backup
	// that has just been taken.
	LeftOut []string `json:"-"`
}

// Same reports whether two backups hold the same.
func (b *Backup) Same(o *Backup) bool {
	return slices.EqualFunc(b.Parts, o.Parts, func(x, y Part) bool { return x.Place == y.Place && x.Manifest == y.Manifest })
}

// Archive records saves and puts them back.
type Archive struct {
	Dir   string // the lane's folder
	Store *store.Store
	Cache *scan.Cache
	Meter progress.Meter
	Now   func() time.Time
	Names *scan.Names // finds files elsewhere that saves are one with
	// Follow takes files to which links in the saves lead into a backup.
	Follow bool
	// Last, if set, is the last good backup, which those that are taken are compared with.
	Last *Backup
	// ID is the change of the saves that the caller has noted as begun; only that one is
	// recovered, and one of a time that the caller has lost, by Lost.
	ID   string
	By   apply.Origin
	Lost func(apply.Origin) (bool, error)

	doubt string // of the backup that is being taken
}

// open opens a place: one inside the lane's folder never leads out of it.
func (k *Archive) open(p Place) (*os.Root, error) {
	root, err := k.place(p)
	if err != nil {
		return nil, err
	}
	return apply.Enter(root, k.Meter.Warn)
}

func (k *Archive) place(p Place) (*os.Root, error) {
	if !p.Inside {
		return os.OpenRoot(p.Path)
	}
	lane, err := os.OpenRoot(k.Dir)
	if err != nil {
		return nil, err
	}
	defer lane.Close()
	return lane.OpenRoot(filepath.FromSlash(p.Path))
}

// look walks a folder and reads what was touched, with the content going to sink.
func (k *Archive) look(ctx context.Context, p Place, sink scan.Sink) (t *scan.Tree, err error) {
	dir := p.In(k.Dir)
	root, err := k.open(p)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	t, err = survey(ctx, root, p)
	if err != nil {
		return nil, err
	}
	if p.Only != "" {
		dir = filepath.Join(dir, p.Only)
	}
	var bytes int64
	for i := range t.Entries {
		bytes += t.Entries[i].Stamp.Size
	}
	if len(t.Entries) > MaxFiles || bytes > MaxBytes {
		return nil, fmt.Errorf("%s: %w: %d files and folders, %d MB", dir, ErrTooMuch, len(t.Entries), bytes>>20)
	}
	if err := k.Cache.Recall(ctx, dir, t); err != nil {
		return nil, err
	}
	if err := k.Cache.Others(ctx, dir, t, k.Names); err != nil {
		return nil, err
	}
	if k.Last != nil && sink != nil {
		defer func() { err = errors.Join(err, k.compare(ctx, root, p, t)) }()
	}
	skip := func(e *scan.Entry) bool { return e.Known }
	if sink == nil {
		sink = scan.Hash()
	} else {
		skip = func(e *scan.Entry) bool {
			ok, err := k.Store.Has(ctx, e.Digest)
			return e.Known && ok && err == nil
		}
	}
	err = t.Read(ctx, root, scan.Request{Sink: sink, Skip: skip, Task: "Saves", Meter: k.Meter, Now: k.Now, Tolerant: true})
	return t, errors.Join(err, k.Cache.Remember(context.WithoutCancel(ctx), dir, t))
}

// survey lists what of a folder belongs to the saves. Links are what they are: one that leads out of it is an entry like others.
func survey(ctx context.Context, root *os.Root, p Place) (*scan.Tree, error) {
	if p.Only == "" {
		t, err := scan.Survey(ctx, root, rules.Rules{})
		if err == nil {
			t.AdmitLinks(nil)
		}
		return t, err
	}
	mode, stamp, err := scan.Look(root, p.Only)
	if volume.Absent(err) || err == nil && !mode.IsRegular() {
		return &scan.Tree{}, nil
	}
	return &scan.Tree{Entries: []scan.Entry{{Path: p.Only, Kind: scan.File, Mode: mode.Perm(), Stamp: stamp}}}, err
}

// compare says what a place has lost since the last good backup.
func (k *Archive) compare(ctx context.Context, root *os.Root, p Place, t *scan.Tree) error {
	i := slices.IndexFunc(k.Last.Parts, func(o Part) bool { return o.Place == p })
	if i < 0 || k.doubt != "" {
		return nil
	}
	m, err := k.Manifest(ctx, k.Last.Parts[i])
	if err != nil {
		return nil // it tells nothing; the store says so elsewhere
	}
	d := damage.Since(fmt.Sprintf("backup %d", k.Last.ID), 1)
	err = d.Compare(ctx, root, m, t, func(string) bool { return false })
	k.doubt = d.String()
	return err
}

// linked lists the files outside to which links in a place lead, and says which lead to folders that are no places themselves.
func (k *Archive) linked(p Place, t *scan.Tree, places []Place) (list []Place, left []string) {
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != scan.Link || !e.Out {
			continue
		}
		at := filepath.Join(p.In(k.Dir), filepath.FromSlash(e.Path))
		real, err := volume.Real(at)
		info, statErr := os.Stat(real)
		switch {
		case err != nil || statErr != nil: // it leads nowhere
		case info.Mode().IsRegular():
			list = append(list, Place{Path: filepath.Dir(real), Only: filepath.Base(real)})
		case !slices.ContainsFunc(places, func(o Place) bool { return userpath.Holds(o.In(k.Dir), real) }):
			left = append(left, fmt.Sprintf("%s is a link to %s, which is no place of saves", at, real))
		}
	}
	return list, left
}

// Record puts the saves into the store.
func (k *Archive) Record(ctx context.Context, places []Place) (*Backup, error) {
	b := &Backup{Made: k.Now()}
	k.doubt = ""
	session := k.Store.Begin()
	err := func() error {
		for i := 0; i < len(places); i++ {
			p := places[i]
			t, err := k.look(ctx, p, session.Put)
			if err != nil {
				return err
			}
			if k.Follow {
				more, left := k.linked(p, t, places)
				for _, o := range more {
					if !slices.Contains(places, o) {
						places = append(slices.Clip(places), o)
					}
				}
				b.LeftOut = append(b.LeftOut, left...)
			}
			for _, o := range t.Odd {
				text := fmt.Sprintf("%s is %s", filepath.Join(p.In(k.Dir), filepath.FromSlash(o.Path)), o.What)
				if o.Name {
					text = fmt.Sprintf("%s: %s", p.In(k.Dir), o.What)
				}
				b.LeftOut = append(b.LeftOut, text)
			}
			m := t.Manifest()
			if err := m.Validate(); err != nil {
				return fmt.Errorf("%s: %w", p.In(k.Dir), err)
			}
			part := Part{Place: p}
			for _, list := range []struct {
				to      *digest.Digest
				encoded []byte
			}{{&part.Manifest, m.Encode()}, {&part.Attributes, t.Attributes().Encode()}} {
				if *list.to, _, err = session.Put(ctx, bytes.NewReader(list.encoded), nil); err != nil {
					return err
				}
			}
			b.Parts = append(b.Parts, part)
			b.Files += len(m.Files)
			b.Bytes += m.Bytes()
		}
		return nil
	}()
	if b.Doubt = k.doubt; len(b.LeftOut) > 0 {
		b.Doubt = "it leaves out: " + b.LeftOut[0]
	}
	return b, errors.Join(err, session.Close())
}

// Manifest reads what a part of a backup lists.
func (k *Archive) Manifest(ctx context.Context, p Part) (*manifest.Manifest, error) {
	raw, err := k.Store.Bytes(ctx, p.Manifest, manifest.MaxEncoded)
	if err != nil {
		return nil, err
	}
	return manifest.DecodeRecorded(raw)
}

// Return is a plan to bring one folder of saves back.
type Return struct {
	Place Place
	Plan  *plan.Plan
	// Copies counts the files that had a second name elsewhere and come back as files of their own.
	Copies int
	tree   *scan.Tree
}

// Propose plans to bring a backup back. A folder that is not there is made.
func (k *Archive) Propose(ctx context.Context, b *Backup) ([]*Return, error) {
	var list []*Return
	for _, p := range b.Parts {
		want, err := k.State(ctx, p)
		if err != nil {
			return nil, fmt.Errorf("backup %d: %w", b.ID, err)
		}
		r, err := k.toward(ctx, p.Place, want)
		if err != nil {
			return nil, err
		}
		list = append(list, r)
	}
	return list, nil
}

// State reads what a part of a backup holds, with times and modes.
func (k *Archive) State(ctx context.Context, p Part) (plan.State, error) {
	m, err := k.Manifest(ctx, p)
	if err != nil {
		return nil, err
	}
	raw, err := k.Store.Bytes(ctx, p.Attributes, manifest.MaxEncoded)
	if err != nil {
		return nil, err
	}
	a, err := manifest.DecodeAttributes(raw)
	if err != nil {
		return nil, err
	}
	return plan.FromManifest(m, a), nil
}

// ProposeEmpty plans to empty folders of saves, for a clean start.
func (k *Archive) ProposeEmpty(ctx context.Context, places []Place) ([]*Return, error) {
	var list []*Return
	for _, p := range places {
		r, err := k.toward(ctx, p, nil)
		if err != nil {
			return nil, err
		}
		list = append(list, r)
	}
	return list, nil
}

func (k *Archive) toward(ctx context.Context, p Place, want plan.State) (*Return, error) {
	r := &Return{Place: p, tree: &scan.Tree{}}
	dir := p.In(k.Dir)
	if _, err := os.Stat(dir); err == nil {
		if r.tree, err = k.look(ctx, p, nil); err != nil {
			return nil, err
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	have := plan.FromTree(r.tree)
	var err error
	var apart map[string]bool
	if want, apart, err = apply.Links(ctx, k.Names, nil, have, want); err != nil {
		return nil, err
	}
	r.Plan, err = plan.Make(plan.Request{Have: have, Odd: r.tree.Odd, Want: want, Exact: true, Links: want == nil})
	if err == nil {
		_, r.Copies = apply.CountLinks(r.Plan, apart)
	}
	return r, err
}

// Carry carries plans out, one folder after the other; each of them is old or new.
func (k *Archive) Carry(ctx context.Context, list []*Return) error {
	for _, r := range list {
		if r.Plan.Empty() {
			continue
		}
		if err := k.carry(ctx, r); err != nil {
			return fmt.Errorf("%s: %w", r.Place.In(k.Dir), err)
		}
	}
	return nil
}

func (k *Archive) carry(ctx context.Context, r *Return) error {
	dir := r.Place.In(k.Dir)
	if err := volume.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	root, err := k.open(r.Place)
	if err != nil {
		return err
	}
	defer root.Close()
	report, err := apply.Do(ctx, apply.Job{ID: k.ID, By: k.By, Root: root, Dir: dir, Plan: r.Plan, Tree: r.tree, Store: k.Store, Meter: k.Meter, Now: k.Now, Names: k.Names})
	if err == nil {
		err = apply.Finish(root)
	}
	k.tell(dir, report)
	return errors.Join(err, tidy(root))
}

// tell says what did not go as planned.
func (k *Archive) tell(dir string, report *apply.Report) {
	if report == nil {
		return
	}
	for _, text := range report.Sentences(dir) {
		k.Meter.Warn(text)
	}
}

// tidy takes Morvant's own folder away from a folder of saves, unless something is left
// in it: an unfinished change, or what was in the way of one.
func tidy(root *os.Root) error {
	if err := root.Remove(manifest.PrivateDir); err != nil && !volume.Absent(err) {
		f, openErr := root.Open(manifest.PrivateDir)
		if openErr != nil {
			return err
		}
		defer f.Close()
		if names, _ := f.Readdirnames(1); len(names) == 0 {
			return err
		}
	}
	return nil
}

// Recover ends what an earlier run has left unfinished in the folders, under k.ID.
func (k *Archive) Recover(ctx context.Context, places []Place) error {
	for _, p := range places {
		dir := p.In(k.Dir)
		root, err := k.open(p)
		if volume.Absent(err) {
			continue
		}
		if err != nil {
			return err
		}
		if _, err = root.Lstat(manifest.PrivateDir); volume.Absent(err) {
			err = nil
		} else if err == nil {
			err = k.recover(ctx, dir, root)
		}
		if err = errors.Join(err, root.Close()); err != nil {
			return fmt.Errorf("an unfinished change in %s: %w", dir, err)
		}
	}
	return nil
}

func (k *Archive) recover(ctx context.Context, dir string, root *os.Root) error {
	end, err := apply.Recover(ctx, apply.Recovery{Root: root, Store: k.Store, Now: k.Now, ID: k.ID, Lost: k.Lost})
	if err != nil {
		return err
	}
	if end.Outcome == apply.Foreign {
		k.Meter.Warn(fmt.Sprintf("%s holds a change that was not begun here; it was not carried out and is in %s", dir, end.At))
	}
	k.tell(dir, end.Report)
	if end.Outcome == apply.Finished {
		err = apply.Finish(root)
	}
	return errors.Join(err, tidy(root))
}
