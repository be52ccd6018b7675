package game

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"morvant/internal/database"
	"morvant/internal/problem"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// Copies of the state are kept beside it, one for each of the last days on which it was
// used, each as it was when that day's last change was made.
const (
	copiesDir  = "state-copies"
	keptCopies = 3
	copySuffix = ".db"
)

// openState opens the state. One that is damaged or lost is put together again.
func (h *Home) openState(ctx context.Context, now func() time.Time) error {
	file := h.file(stateFile)
	info, statErr := os.Stat(file)
	lost := volume.Absent(statErr) || statErr == nil && info.Size() == 0 && !logged(file)
	if lost && h.hasPacks() {
		return h.restoreState(ctx, "", now)
	}
	state, err := state.Open(ctx, file)
	if err == nil {
		if err = database.Check(ctx, state.DB); err == nil {
			h.State = state
			return nil
		}
		state.DB.Close()
	}
	if !database.Damaged(err) {
		return err
	}
	return h.MendState(ctx, now)
}

func logged(file string) bool {
	log, err := os.Stat(file + "-wal")
	return err == nil && log.Size() > 0
}

func (h *Home) hasPacks() bool {
	list, err := os.ReadDir(filepath.Join(h.StoreDir(), "packs"))
	return err == nil && slices.ContainsFunc(list, func(e os.DirEntry) bool { return strings.HasSuffix(e.Name(), ".pack") })
}

// MendState puts the state together again from what can be read of it and from its
// newest copy. The damaged one is kept. It is open afterwards.
func (h *Home) MendState(ctx context.Context, now func() time.Time) error {
	if h.State != nil {
		if err := h.DB.Close(); err != nil {
			return err
		}
		h.State = nil
	}
	if h.open != nil {
		if err := h.open.Unlock(); err != nil {
			return err
		}
		if alone, err := h.open.TryLock(); err != nil || !alone {
			return fmt.Errorf("%w, and another Morvant is using it: end that, then run the command again", database.ErrDamaged)
		}
		defer func() {
			// Others may open it again, once it is put together.
			_ = h.open.Unlock()
			_, _ = h.open.TryRLock()
		}()
	}
	file := h.file(stateFile)
	aside := file + ".damaged-" + now().Format("2006-01-02-150405")
	for n := 2; ; n++ {
		if _, err := os.Lstat(aside); volume.Absent(err) {
			break
		}
		aside = fmt.Sprintf("%s.damaged-%s-%d", file, now().Format("2006-01-02-150405"), n)
	}
	for _, suffix := range []string{"-wal", "-shm", ""} {
		if err := os.Rename(file+suffix, aside+suffix); err != nil && !volume.Absent(err) {
			return err
		}
	}
	return h.restoreState(ctx, aside, now)
}

// restoreState makes a state out of the newest good copy, and of what can be read of a
// damaged one, which is newer.
func (h *Home) restoreState(ctx context.Context, damaged string, now func() time.Time) error {
	file := h.file(stateFile)
	if err := database.Remove(file); err != nil {
		return err
	}
	from, err := h.bestCopy(ctx)
	if err != nil {
		return err
	}
	if from != "" {
		if err := copyOver(from, file); err != nil {
			return err
		}
	}
	if h.State, err = state.Open(ctx, file); err != nil {
		return err
	}
	rows := 0
	if damaged != "" {
		rows = state.Salvage(ctx, damaged, h.DB)
	}
	what := "The state of this home was lost"
	if damaged != "" {
		what = fmt.Sprintf("The state of this home was damaged (kept as %s)", damaged)
	}
	switch {
	case from != "" && damaged != "":
		h.Said = append(h.Said, fmt.Sprintf("%s; it is put together again from the copy of %s and from %d entries that could be read.", what, dayOf(from), rows))
	case from != "":
		h.Said = append(h.Said, fmt.Sprintf("%s; it is as in the copy of %s again.", what, dayOf(from)))
	case rows > 0:
		h.Said = append(h.Said, fmt.Sprintf("%s; Morvant keeps the %d entries that it could read.", what, rows))
	default:
		h.Said = append(h.Said, fmt.Sprintf("%s, and there is no copy of it. Use %s to list again every snapshot that the store describes; until then Morvant trims nothing.", what, problem.RecoverBuilds))
	}
	if from == "" && h.hasPacks() {
		return h.SetFact(ctx, state.FactLost, now().UTC().Format(time.RFC3339))
	}
	return nil
}

func dayOf(file string) string { return strings.TrimSuffix(filepath.Base(file), copySuffix) }

func copyOver(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	b, err := io.ReadAll(in)
	if err != nil {
		return err
	}
	return volume.Replace(to, b, 0o600)
}

// copies lists the copies of the state, the newest first.
func (h *Home) copies() []string {
	list, err := os.ReadDir(h.file(copiesDir))
	if err != nil {
		return nil
	}
	var files []string
	for _, e := range list {
		if _, err := time.Parse(time.DateOnly, strings.TrimSuffix(e.Name(), copySuffix)); err == nil && strings.HasSuffix(e.Name(), copySuffix) {
			files = append(files, filepath.Join(h.file(copiesDir), e.Name()))
		}
	}
	slices.Sort(files)
	slices.Reverse(files)
	return files
}

// bestCopy returns the newest copy that is whole; empty if there is none.
func (h *Home) bestCopy(ctx context.Context) (string, error) {
	for _, file := range h.copies() {
		if checkFile(ctx, file) == nil {
			return file, nil
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
	}
	return "", nil
}

func checkFile(ctx context.Context, file string) error {
	db, err := database.OpenDamaged(file)
	if err != nil {
		return err
	}
	defer db.Close()
	return database.Check(ctx, db)
}

// copyState keeps a copy of a state that has changed since the last one. It is a help
// only: where it cannot be made, nothing fails.
func (h *Home) copyState() {
	log, err := os.Stat(h.file(stateFile) + "-wal")
	if err != nil || log.Size() == 0 {
		return
	}
	ctx := context.Background()
	today := filepath.Join(h.file(copiesDir), time.Now().Format(time.DateOnly)+copySuffix)
	if newest := h.copies(); len(newest) > 0 {
		if is, err := os.Stat(newest[0]); err == nil && newest[0] == today && is.ModTime().After(log.ModTime()) {
			return
		}
	}
	if os.MkdirAll(h.file(copiesDir), 0o755) != nil {
		return
	}
	part := filepath.Join(h.file(copiesDir), fmt.Sprintf("part-%d", os.Getpid()))
	defer os.Remove(part)
	_ = os.Remove(part)
	if database.Copy(ctx, h.DB, part) != nil || checkFile(ctx, part) != nil {
		return
	}
	f, err := os.OpenFile(part, os.O_RDWR, 0) // Windows syncs only what may be written
	if err != nil {
		return
	}
	err = errors.Join(f.Chmod(0o600), f.Sync(), f.Close())
	if err != nil || os.Rename(part, today) != nil {
		return
	}
	_ = volume.SyncFolder(h.file(copiesDir))
	for i, old := range h.copies() {
		if i >= keptCopies {
			_ = os.Remove(old)
		}
	}
}

// ReadAll reads every entry of the state, and returns the first error.
func (h *Home) ReadAll(ctx context.Context) error {
	names, err := h.Names()
	if err != nil {
		return err
	}
	return h.State.ReadAll(ctx, names)
}
