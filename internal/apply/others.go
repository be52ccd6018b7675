package apply

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/scan"
)

// Links says of the files of want that are to be one with a file elsewhere, and are not there, which of
// them can: those whose other name is in the folders of names and has that content still. The others are
// to be files of their own in the state that is returned, and are listed in the spelling of the folder.
func Links(ctx context.Context, names *scan.Names, spelling *plan.Spelling, have, want plan.State) (out plan.State, copies map[string]bool, err error) {
	out, copies = want, make(map[string]bool)
	cloned := false
	for i := range want {
		e := want[i]
		if e.Other.IsZero() {
			continue
		}
		if is, there := have.Get(spelling.Of(e.Path)); there && is.SameContent(e.Node) {
			continue
		}
		name, err := other(ctx, names, &e)
		if err != nil {
			return nil, nil, err
		}
		if !cloned {
			out, cloned = append(plan.State{}, want...), true
		}
		if name == "" {
			out[i].Other = manifest.Other{}
			copies[spelling.Of(e.Path)] = true
			continue
		}
		out[i].Other.Name = name
	}
	return out, copies, nil
}

// CountLinks counts the files that a plan makes one with a file elsewhere, and those of copies that it writes.
func CountLinks(p *plan.Plan, copies map[string]bool) (again, apart int) {
	for i := range p.Steps {
		switch s := &p.Steps[i]; {
		case !s.Places() || s.After.Kind != plan.File:
		case s.After.Other.Name != "" && s.From == "":
			again++
		case copies[s.Path]:
			apart++
		}
	}
	return again, apart
}

// other finds the file that e is to be one with; empty: there is none.
func other(ctx context.Context, names *scan.Names, e *plan.Entry) (string, error) {
	if len(names.Folders) == 0 {
		return "", nil
	}
	if e.Other.Name != "" && holds(ctx, names, e.Other.Name, &e.Node) {
		return e.Other.Name, ctx.Err()
	}
	name, err := names.Of(ctx, e.Other)
	if err != nil || name == "" || !holds(ctx, names, name, &e.Node) {
		return "", errors.Join(err, ctx.Err())
	}
	return name, nil
}

// holds reports whether a file has the content of n: it is that of the same size and time, or is read.
func holds(ctx context.Context, names *scan.Names, name string, n *plan.Node) bool {
	f, stamp, err := names.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	if stamp.Size != n.Size {
		return false
	}
	if n.MTime != 0 && plan.Moment(stamp.MTime) == n.MTime {
		return true
	}
	d, _, err := scan.Hash()(ctx, f, func(int) {})
	return err == nil && d == n.Digest
}

// link makes the file of a step one with the file elsewhere that it is to be one with, if that has its
// content: every byte of it is read. If not, there is no file of that name, and it has to be written.
func (s *stager) link(ctx context.Context, name string, step *plan.Step) (bool, error) {
	if step.After.Other.Name == "" || s.Names == nil {
		return false, nil
	}
	f, stamp, err := s.Names.Open(step.After.Other.Name)
	if err != nil {
		return false, nil
	}
	defer f.Close()
	var d digest.Digest
	if d, _, err = scan.Hash()(ctx, f, func(int) {}); err != nil || d != step.After.Digest {
		return false, ctx.Err()
	}
	if err := os.Link(step.After.Other.Name, filepath.Join(s.Dir, filepath.FromSlash(name))); err != nil {
		return false, nil // another disk, or a file that this user may not link to
	}
	mode, is, err := scan.Look(s.Root, name)
	if err == nil && mode.IsRegular() && is.Ino == stamp.Ino && is.Size == stamp.Size && is.MTime == stamp.MTime {
		return true, nil
	}
	if err := s.Root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	return false, nil
}
