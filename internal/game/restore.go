package game

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/volume"
)

// Copies of the state are kept beside it, one for each of the last days on which it was
// used, each as it was when that day's last change was made.
const (
	copiesDir  = "state-copies"
	keptCopies = 3
	copySuffix = ".db"
)

// FactLost is remembered while the state may lack what the store holds: it was lost, and
// no copy was there.
const FactLost = "state-lost"

// openState opens the state. One that is damaged or lost is put together again.
func (h *Home) openState(ctx context.Context, now func() time.Time) error {
	file := h.file(stateFile)
	info, statErr := os.Stat(file)
	lost := volume.Absent(statErr) || statErr == nil && info.Size() == 0 && !logged(file)
	if lost && h.hasPacks() {
		return h.restoreState(ctx, "", now)
	}
	db, err := database.Open(ctx, file, schema)
	if err == nil {
		if err = database.Check(ctx, db); err == nil {
			h.db = db
			return nil
		}
		db.Close()
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
	if h.db != nil {
		if err := h.db.Close(); err != nil {
			return err
		}
		h.db = nil
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
	if h.db, err = database.Open(ctx, file, schema); err != nil {
		return err
	}
	rows := 0
	if damaged != "" {
		rows = salvage(ctx, damaged, h.db)
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
		h.Said = append(h.Said, fmt.Sprintf("%s; the %d entries that could be read are kept.", what, rows))
	default:
		h.Said = append(h.Said, what+", and there is no copy of it. morvant store check --recover-builds lists again every snapshot that the store describes; until then nothing is trimmed.")
	}
	if from == "" && h.hasPacks() {
		return h.SetFact(ctx, FactLost, now().UTC().Format(time.RFC3339))
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
	if database.Copy(ctx, h.db, part) != nil || checkFile(ctx, part) != nil {
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

// salvaged are the tables that are read from a damaged state, and the columns that must
// hold JSON or a digest for a row to be of use.
var salvaged = []struct {
	table   string
	json    []string
	digests []string
}{
	{"build", []string{"components", "chosen"}, []string{"manifest", "attributes", "record"}},
	{"change", []string{"totals", "pin_before", "pin_after"}, []string{"steps"}},
	{"lane", []string{"pin", "body"}, nil},
	{"live", nil, nil},
	{"block", []string{"body"}, nil},
	{"saves", []string{"parts"}, nil},
	{"restoring", []string{"body"}, nil},
	{"begun", []string{"body"}, nil},
	{"own_note", nil, nil},
}

// salvage copies every row that can be read and is of use, and returns how many.
func salvage(ctx context.Context, damaged string, into *sql.DB) int {
	db, err := database.OpenDamaged(damaged)
	if err != nil {
		return 0
	}
	defer db.Close()
	n := 0
	for _, t := range salvaged {
		// From both ends: what lies behind the damage can be reached from the other one.
		for _, order := range []string{"", " ORDER BY 1 DESC"} {
			n += salvageTable(ctx, db, into, t.table, order, t.json, t.digests)
			if order == "" && ctx.Err() != nil {
				return n
			}
		}
	}
	return n
}

func salvageTable(ctx context.Context, from, into *sql.DB, table, order string, jsons, digests []string) int {
	rows, err := from.QueryContext(ctx, "SELECT * FROM "+table+order)
	if err != nil {
		return 0
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return 0
	}
	marks := strings.TrimSuffix(strings.Repeat("?,", len(columns)), ",")
	insert := fmt.Sprintf("INSERT OR REPLACE INTO %s (%s) VALUES (%s)", table, strings.Join(columns, ", "), marks)
	n := 0
	for rows.Next() {
		values := make([]any, len(columns))
		into2 := make([]any, len(columns))
		for i := range values {
			into2[i] = &values[i]
		}
		if rows.Scan(into2...) != nil {
			continue
		}
		if !useful(columns, values, jsons, digests) {
			continue
		}
		if _, err := into.ExecContext(ctx, insert, values...); err == nil && order == "" {
			n++
		}
	}
	return n
}

func useful(columns []string, values []any, jsons, digests []string) bool {
	for i, name := range columns {
		switch v := values[i]; {
		case slices.Contains(jsons, name):
			text, ok := v.(string)
			if !ok || !json.Valid([]byte(text)) {
				return false
			}
		case slices.Contains(digests, name):
			b, ok := v.([]byte)
			if _, err := digest.FromBytes(b); !ok || err != nil {
				return false
			}
		case v == nil:
			return false
		}
	}
	return true
}

// ReadAll reads every entry of the state, and returns the first error.
func (h *Home) ReadAll(ctx context.Context) error {
	if err := database.Check(ctx, h.db); err != nil {
		return err
	}
	if _, err := h.Recorded(ctx, ""); err != nil {
		return err
	}
	if _, err := h.History(ctx, "", ""); err != nil {
		return err
	}
	if _, err := h.Backups(ctx, ""); err != nil {
		return err
	}
	if _, err := h.Begun(ctx, ""); err != nil {
		return err
	}
	names, err := h.Names()
	if err != nil {
		return err
	}
	for _, name := range names {
		lanes, err := h.Lanes(ctx, name)
		if err != nil {
			return err
		}
		for _, l := range lanes {
			if _, err := h.Holds(ctx, name, l.Name); err != nil {
				return err
			}
		}
	}
	return nil
}
