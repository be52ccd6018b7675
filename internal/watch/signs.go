package watch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/block"
	"morvant/internal/digest"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/guard"
	"morvant/internal/lane/status"
	"morvant/internal/plan"
	"morvant/internal/process"
	"morvant/internal/scan"
	"morvant/internal/store"
	"morvant/internal/version"
)

// signs are what speaks against an update being over, in sentences without an end.
type signs struct {
	atWork []string // somebody is still at it: this counts whatever the folder holds
	notYet []string // the folder looks as if some of it were missing
}

func (s signs) all() []string { return slices.Concat(s.atWork, s.notYet) }

// signsAgainst looks for what speaks against the update being over, from what the lane was before it
// to what it is now.
func signsAgainst(ctx context.Context, l *lane.Lane, before Before, now *status.Status) (s signs, err error) {
	fresh := touched(before.Tree, now.Tree)
	if s.atWork, err = atWork(l, fresh); err != nil {
		return s, err
	}
	if now.Waiting != "" && now.Waiting == before.Waiting {
		s.atWork = append(s.atWork, fmt.Sprintf("the launcher still has %s ready", now.Waiting))
	}
	if u := update(now); u != nil && u.HalfDone() {
		s.notYet = append(s.notYet, halfDone(now.Build.Label, u))
	}
	empty, err := unfilled(ctx, l, fresh)
	if err != nil {
		return s, err
	}
	s.notYet = append(s.notYet, empty...)
	says, err := identify.Says(l.Dir, l.Game.Program, l.Game.Version)
	s.notYet = append(s.notYet, unsure(before.says, says)...)
	return s, err
}

func update(s *status.Status) *status.Update {
	if s.Drift == nil {
		return nil
	}
	return s.Drift.Update
}

func halfDone(held string, u *status.Update) string {
	text := fmt.Sprintf("%d of %d files are as in %s", u.Done, u.Of, u.Build.Label)
	if u.Old > 0 {
		text += fmt.Sprintf(", %d still as in %s", u.Old, held)
	}
	if u.Short > 0 {
		text += fmt.Sprintf(", %d shorter than there", u.Short)
	}
	if n := u.Unlike() - u.Short; n > 0 {
		text += fmt.Sprintf(", %d as in neither", n)
	}
	return text
}

// touched lists the files that came or changed from one look to another.
func touched(before, now *scan.Tree) []*scan.Entry {
	var list []*scan.Entry
	for i := range now.Entries {
		e := &now.Entries[i]
		if was := before.Entry(e.Path); e.Kind == scan.File && (was == nil || was.Kind != scan.File || was.Digest != e.Digest || was.Stamp != e.Stamp) {
			list = append(list, e)
		}
	}
	return list
}

// atWork says what shows that somebody is writing to the lane just now: files that are open,
// of which fresh were touched lately, the launcher's staging folder, what it says of itself.
func atWork(l *lane.Lane, fresh []*scan.Entry) ([]string, error) {
	list, err := openFiles(l, fresh)
	if err != nil {
		return nil, err
	}
	at := guard.Outside(l)
	for _, r := range l.Game.Block {
		if r.Kind != block.Occupy {
			continue
		}
		staging := at.Watched(r)
		if entries, err := os.ReadDir(staging); err == nil && len(entries) > 0 {
			list = append(list, fmt.Sprintf("the launcher's folder %s is not empty yet", staging))
		}
	}
	for _, r := range l.Game.Updating {
		says, err := r.Update(at)
		if err != nil {
			return nil, err
		}
		if says != "" {
			list = append(list, fmt.Sprintf("the launcher says that it is at work (\"%s\")", says))
		}
	}
	return list, nil
}

// openFiles names who has a file of the game open for writing.
func openFiles(l *lane.Lane, fresh []*scan.Entry) ([]string, error) {
	var likely []string
	for _, e := range fresh {
		likely = append(likely, filepath.Join(l.Dir, filepath.FromSlash(e.Path)))
	}
	open, err := process.Writing(l.Dir, likely)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	match := l.Game.Rules().Matcher()
	open = slices.DeleteFunc(open, func(o process.Open) bool {
		p, err := filepath.Rel(l.Dir, o.File)
		p = filepath.ToSlash(p)
		return own(l.Dir, o.File) || err == nil && (match.Scratch(p) || match.Kept(p))
	})
	if len(open) == 0 {
		return nil, nil
	}
	by := "a program"
	if o := open[0].By; o.PID != 0 {
		by = named(o)
	}
	return []string{fmt.Sprintf("%s has %s open for writing%s", by, filepath.Base(open[0].File), andMore(len(open)-1))}, nil
}

func andMore(n int) string {
	if n > 0 {
		return fmt.Sprintf(", and %d more", n)
	}
	return ""
}

// zeroRun is how many zeros at the end of a file look like content that is still to come.
const zeroRun = 64 << 10

// unfilled names the files that are zeros to their end, or altogether, as launchers leave them
// that make a file first and fill it later. A file that a known build has like that is whole.
func unfilled(ctx context.Context, l *lane.Lane, fresh []*scan.Entry) ([]string, error) {
	var found []*scan.Entry
	for _, e := range fresh {
		empty, err := endsInZeros(l.Root, e.Path, e.Stamp.Size)
		if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) {
			return nil, err
		}
		if empty {
			found = append(found, e)
		}
	}
	if len(found) == 0 {
		return nil, nil
	}
	known, err := compose.Known(ctx, l.Home, l.Store, l.Game)
	if err != nil {
		return nil, err
	}
	whole := make(map[digest.Digest]bool)
	for _, k := range known {
		if k.Build.Doubt != "" { // it may have been recorded just like that
			continue
		}
		for _, p := range k.Parts {
			for _, f := range p.Manifest.Files {
				whole[f.Digest] = true
			}
		}
	}
	held, err := compose.HeldState(ctx, l)
	if err != nil {
		return nil, err
	}
	found = slices.DeleteFunc(found, func(e *scan.Entry) bool {
		was, had := held.Get(e.Path)
		return whole[e.Digest] || had && was.Kind == plan.File && endedInZeros(ctx, l.Store, was.Digest)
	})
	if len(found) == 0 {
		return nil, nil
	}
	return []string{fmt.Sprintf("%s ends in zeros, as if it were still being filled%s", found[0].Path, andMore(len(found)-1))}, nil
}

// endedInZeros reports whether content in the store ends in zeros: then such a file is nothing new.
func endedInZeros(ctx context.Context, s *store.Store, content digest.Digest) bool {
	pieces, err := s.Layout(ctx, content)
	if err != nil || len(pieces) == 0 {
		return false
	}
	end, err := s.Chunk(ctx, pieces[len(pieces)-1].Digest, nil)
	return err == nil && zeros(end[max(0, len(end)-zeroRun):])
}

func zeros(b []byte) bool { return !slices.ContainsFunc(b, func(c byte) bool { return c != 0 }) }

func endsInZeros(root *os.Root, p string, size int64) (bool, error) {
	if size == 0 {
		return false, nil
	}
	f, err := scan.OpenFile(root, p)
	if err != nil {
		return false, err
	}
	defer f.Close()
	end := make([]byte, min(size, zeroRun))
	if _, err := f.ReadAt(end, size-int64(len(end))); err != nil && !errors.Is(err, io.EOF) {
		return false, err
	}
	return zeros(end), nil
}

// unsure compares what a game says of its version with what it said before: who says nothing
// any more, and who says different things that said the same.
func unsure(before, now []identify.Evidence) []string {
	says := func(list []identify.Evidence, source string) string {
		for _, e := range list {
			if e.Source == source && !e.Log {
				return e.Says
			}
		}
		return ""
	}
	var list []string
	for _, was := range before {
		if was.Log || was.Says == "" {
			continue
		}
		is := says(now, was.Source)
		if is == "" {
			list = append(list, fmt.Sprintf("%s no longer reports its version", was.Source))
			continue
		}
		for _, other := range before {
			o := says(now, other.Source)
			if other.Source > was.Source && o != "" && same(was.Says, other.Says) && !same(is, o) {
				list = append(list, fmt.Sprintf("%s says %s, %s says %s", was.Source, is, other.Source, o))
			}
		}
	}
	return list
}

func same(a, b string) bool {
	a, b = strings.TrimSpace(a), strings.TrimSpace(b)
	return version.Means(a, b) || version.Means(b, a)
}
