package lanes

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf16"

	"github.com/adrg/xdg"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/oplog"
	"morvant/internal/plan"
	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/userpath"
	"morvant/internal/volume"
)

// ErrMove is returned for a folder that cannot be moved there.
var ErrMove = problem.New("the game cannot be moved there", "Nothing was changed")

// moving is how a lane's folder is moved.
type moving struct {
	From   string `json:"from"`
	To     string `json:"to"`
	Live   bool   `json:"live"`   // it is the game's live folder
	Same   bool   `json:"same"`   // it goes there by its name alone
	Copied bool   `json:"copied"` // all of it is there

	lane string
}

// CheckMove returns the folder that a lane would be moved to, and whether that is on another disk.
func CheckMove(ctx context.Context, l *lane.Lane, to string) (dir string, other bool, err error) {
	if err := l.MayChange(); err != nil {
		return "", false, err
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return "", false, err
	}
	if is.Linked {
		return "", false, fmt.Errorf("%w: lane %s is linked: the live folder is a link to it", ErrMove, l.Name)
	}
	if to, err = filepath.Abs(to); err != nil {
		return "", false, err
	}
	taken := func() bool {
		game.SweepProbes(to)
		list, err := os.ReadDir(to)
		return err == nil && len(list) > 0 && !resumes(ctx, l, to)
	}
	if taken() {
		if to = filepath.Join(to, filepath.Base(l.Dir)); to == l.Dir {
			return "", false, fmt.Errorf("%w: it lies there already", ErrMove)
		}
		if taken() {
			return "", false, fmt.Errorf("%w: %s is not empty", ErrMove, to)
		}
	}
	if userpath.Holds(l.Dir, to) || userpath.Holds(to, l.Dir) {
		return "", false, fmt.Errorf("%w: %s and %s lie within each other", ErrMove, l.Dir, to)
	}
	around := filepath.Dir(to)
	for volume.Absent(statOf(around)) && filepath.Dir(around) != around {
		around = filepath.Dir(around)
	}
	same, err := volume.SameDisk(l.Dir, around)
	return to, !same, err
}

func statOf(dir string) error {
	_, err := os.Stat(dir)
	return err
}

// resumes reports whether an earlier run has begun to move the lane there.
func resumes(ctx context.Context, l *lane.Lane, to string) bool {
	m, err := begunMove(ctx, l, l.Name)
	return err == nil && m != nil && m.To == to && m.From == l.Dir
}

func begunMove(ctx context.Context, l *lane.Lane, name string) (*moving, error) {
	list, err := l.Home.Begun(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	for _, b := range list {
		if b.Kind == state.BegunMove && b.Lane == name {
			m := &moving{}
			return m, json.Unmarshal(b.Body, m)
		}
	}
	return nil, nil
}

// Move moves a lane's folder, also to another disk: there it is copied, checked, and removed here once
// all of it is there. Killed, the same command goes on.
func Move(ctx context.Context, l *lane.Lane, to string) error {
	to, other, err := CheckMove(ctx, l, to)
	if err != nil {
		return err
	}
	fresh := volume.Absent(statOf(to))
	if err := volume.MkdirAll(to, 0o755); err != nil {
		return err
	}
	if to, err = l.Home.CheckFolder(ctx, l.Game.Name, "", to); fresh { // it was made to be tried
		err = errors.Join(err, os.Remove(to))
	}
	if err != nil {
		return err
	}
	m := &moving{From: l.Dir, To: to, Live: l.Live, Same: !other}
	if err := m.operation(l, l).Run(ctx, l.Home.State); err != nil {
		return err
	}
	return l.WriteMarker(ctx)
}

// operation is the moving of a lane's folder: it is where it was until all of it is at its new place. o is the lane, nil: that was
// begun by an earlier run.
func (m *moving) operation(l, o *lane.Lane) *oplog.Operation {
	name := m.lane
	if o != nil {
		name = o.Name
	}
	op := &oplog.Operation{Game: l.Game.Name, Lane: name, Kind: state.BegunMove, Body: m, What: fmt.Sprintf("The move of %s to %s", m.From, m.To)}
	op.Steps = []oplog.Step{{
		Do: func(ctx context.Context) error {
			if o == nil {
				return nil // it is there
			}
			if err := m.bring(ctx, o); err != nil || m.Same {
				return err
			}
			m.Copied = true
			return op.Note(ctx, l.Home.State)
		},
		Back: func(context.Context) error {
			if !m.Same {
				return oplog.ErrWaits // what has been copied need not be copied again
			}
			return nil
		},
		Done: func(context.Context) (bool, error) {
			return m.Copied || volume.Absent(statOf(m.From)) && lane.MarkerOf(m.To) == (lane.Identity{Game: l.Game.Name, Lane: name}), nil
		},
	}, {
		Do: func(ctx context.Context) error { return place(ctx, l, name, m) },
	}, {
		Do: func(ctx context.Context) (err error) {
			if m.Copied && volume.Absent(statOf(m.To)) {
				return fmt.Errorf("%s: %w", m.To, lane.ErrAway)
			}
			if m.Copied && statOf(m.From) == nil {
				err = removeCopied(ctx, l, m.From, m.To)
			}
			if o != nil && err == nil {
				o.Dir = m.To
				o.Root, err = o.OpenFolder(m.To)
			}
			return err
		},
	}}
	return op
}

// bring moves or copies the folder.
func (m *moving) bring(ctx context.Context, o *lane.Lane) error {
	if o.Root != nil {
		if err := o.Root.Close(); err != nil {
			return err
		}
		o.Root = nil
	}
	if m.Same {
		if err := ignoreMissing(os.Remove(m.To)); err != nil {
			return err
		}
		if err := process.Rename(m.From, m.To); err != nil {
			return err
		}
		return syncFolders(filepath.Dir(m.From), filepath.Dir(m.To))
	}
	if err := copyFolder(ctx, o, m.From, m.To); err != nil {
		return err
	}
	if err := copyAside(m); err != nil {
		return err
	}
	return lane.WriteMarker(m.To, lane.Marker{Game: o.Game.Name, Lane: o.Name, State: "free"})
}

// copyAside copies what Morvant has put aside in a folder, which is no part of the game.
func copyAside(m *moving) error {
	const aside = manifest.PrivateDir + "/aside"
	from := filepath.Join(m.From, filepath.FromSlash(aside))
	if err := statOf(from); err != nil {
		return ignoreMissing(err)
	}
	to := filepath.Join(m.To, filepath.FromSlash(aside))
	if err := os.RemoveAll(to); err != nil {
		return err
	}
	return os.CopyFS(to, os.DirFS(from))
}

// place tells the settings and the state where the lane is now.
func place(ctx context.Context, l *lane.Lane, name string, m *moving) error {
	if m.Live {
		g, err := l.Home.Edit(l.Game.Name, map[string]any{"live": m.To})
		if err != nil {
			return err
		}
		l.Base, l.Game = g, g
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, name)
	if err != nil {
		return err
	}
	if !m.Live {
		is.Place = m.To
	}
	is.Volume = volume.ID(m.To)
	return l.Home.SetLane(ctx, l.Game.Name, name, is.LaneState)
}

// unmoved is the moving of a lane's folder that an earlier run has begun.
func unmoved(l *lane.Lane, b state.Begun) (*oplog.Operation, error) {
	m := &moving{lane: b.Lane}
	if err := json.Unmarshal(b.Body, m); err != nil {
		return nil, err
	}
	return m.operation(l, nil), nil
}

// stateOf lists a folder by names, sizes and times.
func stateOf(ctx context.Context, dir string) (plan.State, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	t, err := scan.Walk(ctx, root, rules.Rules{})
	if err != nil {
		return nil, err
	}
	t.AdmitLinks(nil)
	return plan.FromTree(t), nil
}

// Astray lists links in a folder that was moved from another place and that lead elsewhere now: they are
// written from where they lie, and lead out of the folder.
func Astray(ctx context.Context, dir, from string) ([]string, error) {
	own, err := ownLinks(ctx, dir)
	if err != nil {
		return nil, err
	}
	var list []string
	for _, p := range slices.Sorted(maps.Keys(own)) {
		if targetFrom(from, dir, p, own[p]) != own[p] {
			list = append(list, p)
		}
	}
	return list, nil
}

// most is how much of a file is searched for a path, in bytes.
const most = 1 << 20

// Naming lists files outside of the game that name a folder: what its block rules change, and shortcuts.
func Naming(g *game.Game, dir string) []string {
	var files []string
	home, err := os.UserHomeDir()
	if err != nil {
		home = ""
	}
	for _, r := range g.Block {
		if r.File != "" {
			files = append(files, userpath.Expand(r.File, home, g.Live))
		}
	}
	for _, place := range append(slices.Clone(xdg.ApplicationDirs), xdg.UserDirs.Desktop) {
		_ = filepath.WalkDir(place, func(p string, d fs.DirEntry, err error) error { // what cannot be read names nothing
			if err == nil && !d.IsDir() && slices.Contains([]string{".desktop", ".lnk", ".url"}, strings.ToLower(filepath.Ext(p))) {
				files = append(files, p)
			}
			return nil
		})
	}
	var list []string
	for _, f := range files {
		if names(f, dir) && !slices.Contains(list, f) {
			list = append(list, f)
		}
	}
	return list
}

// names reports whether a file has a path in it, however that is encoded.
func names(file, dir string) bool {
	f, err := volume.Open(file)
	if err != nil {
		return false
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, most))
	if err != nil {
		return false
	}
	for _, text := range []string{dir, filepath.ToSlash(dir), strings.ReplaceAll(dir, `\`, `\\`)} {
		var wide []byte
		for _, u := range utf16.Encode([]rune(text)) {
			wide = append(wide, byte(u), byte(u>>8))
		}
		if bytes.Contains(b, []byte(text)) || bytes.Contains(b, wide) {
			return true
		}
	}
	return false
}
