package state

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"morvant/internal/alias"
	"morvant/internal/block"
	"morvant/internal/database"
	"morvant/internal/digest"
)

var schema = database.Schema{Steps: []string{`
CREATE TABLE build (
	id INTEGER PRIMARY KEY, uid TEXT NOT NULL UNIQUE, game TEXT NOT NULL, label TEXT NOT NULL, note TEXT NOT NULL, made INTEGER NOT NULL,
	manifest BLOB NOT NULL, attributes BLOB NOT NULL, files INTEGER NOT NULL, bytes INTEGER NOT NULL, record BLOB NOT NULL,
	UNIQUE (game, label)
);
CREATE TABLE lane (game TEXT, name TEXT, pin TEXT NOT NULL, PRIMARY KEY (game, name)) WITHOUT ROWID;
CREATE TABLE change (
	id INTEGER PRIMARY KEY, uid TEXT NOT NULL UNIQUE, game TEXT NOT NULL, lane TEXT NOT NULL, made INTEGER NOT NULL,
	what TEXT NOT NULL, build TEXT NOT NULL, undoes INTEGER NOT NULL, undone INTEGER NOT NULL, steps BLOB NOT NULL,
	totals TEXT NOT NULL, pin_before TEXT NOT NULL, pin_after TEXT NOT NULL
);
CREATE INDEX change_lane ON change (game, lane, id);
`, `
CREATE TABLE build2 (
	id INTEGER PRIMARY KEY, uid TEXT NOT NULL, game TEXT NOT NULL, label TEXT NOT NULL, note TEXT NOT NULL, made INTEGER NOT NULL,
	manifest BLOB NOT NULL, attributes BLOB NOT NULL, files INTEGER NOT NULL, bytes INTEGER NOT NULL, record BLOB NOT NULL,
	channel TEXT NOT NULL DEFAULT '', components TEXT NOT NULL DEFAULT 'null', chosen TEXT NOT NULL DEFAULT 'null', partial INTEGER NOT NULL DEFAULT 0,
	UNIQUE (game, uid)
);
INSERT INTO build2 (id, uid, game, label, note, made, manifest, attributes, files, bytes, record)
	SELECT id, uid, game, label, note, made, manifest, attributes, files, bytes, record FROM build;
DROP TABLE build;
ALTER TABLE build2 RENAME TO build;
CREATE UNIQUE INDEX snapshot_label ON build (game, label) WHERE channel = '';
CREATE TABLE own_note (game TEXT, build TEXT, note TEXT NOT NULL, PRIMARY KEY (game, build)) WITHOUT ROWID;
`, `
CREATE TABLE block (game TEXT, lane TEXT, body TEXT NOT NULL, PRIMARY KEY (game, lane)) WITHOUT ROWID;
`, `
ALTER TABLE lane ADD COLUMN body TEXT NOT NULL DEFAULT '{}';
CREATE TABLE live (game TEXT PRIMARY KEY, lane TEXT NOT NULL, switching TEXT NOT NULL DEFAULT '') WITHOUT ROWID;
`, `
CREATE TABLE saves (
	id INTEGER PRIMARY KEY AUTOINCREMENT, game TEXT NOT NULL, lane TEXT NOT NULL, made INTEGER NOT NULL, why TEXT NOT NULL, build TEXT NOT NULL,
	parts TEXT NOT NULL, files INTEGER NOT NULL, bytes INTEGER NOT NULL
);
CREATE TABLE restoring (game TEXT PRIMARY KEY, body TEXT NOT NULL) WITHOUT ROWID;
ALTER TABLE change ADD COLUMN output TEXT NOT NULL DEFAULT '';
`, `
CREATE TABLE begun (game TEXT, lane TEXT, kind TEXT, uid TEXT NOT NULL, body TEXT NOT NULL, PRIMARY KEY (game, lane, kind)) WITHOUT ROWID;
ALTER TABLE change ADD COLUMN notes TEXT NOT NULL DEFAULT '';
CREATE TABLE fact (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
`, `
ALTER TABLE build ADD COLUMN doubt TEXT NOT NULL DEFAULT '';
CREATE TABLE own (
	id INTEGER PRIMARY KEY AUTOINCREMENT, game TEXT NOT NULL, lane TEXT NOT NULL, made INTEGER NOT NULL,
	manifest BLOB NOT NULL, attributes BLOB NOT NULL, files INTEGER NOT NULL, bytes INTEGER NOT NULL
);
CREATE TABLE gone (game TEXT, lane TEXT, path TEXT, bytes INTEGER NOT NULL, noticed INTEGER NOT NULL, PRIMARY KEY (game, lane, path)) WITHOUT ROWID;
`, `
ALTER TABLE build ADD COLUMN fragment INTEGER NOT NULL DEFAULT 0;
UPDATE build SET fragment = 1 WHERE channel = '' AND (
	(label = 'overlay' OR label GLOB 'overlay-[0-9]*') AND note LIKE 'files of %' OR label GLOB 'set-aside-*' AND note = 'written while a change was unfinished');
`, `
CREATE TABLE links (digest BLOB PRIMARY KEY, body TEXT NOT NULL) WITHOUT ROWID;
`, `
ALTER TABLE own ADD COLUMN guard INTEGER NOT NULL DEFAULT 0;
ALTER TABLE build ADD COLUMN fits TEXT NOT NULL DEFAULT '';
`, `
ALTER TABLE build ADD COLUMN distributor_id TEXT NOT NULL DEFAULT '';
`, ageStep(), operationStep, `
CREATE TRIGGER IF NOT EXISTS age_operation_insert AFTER INSERT ON operation BEGIN UPDATE age SET generation = generation + 1; END;
ALTER TABLE saves ADD COLUMN doubt TEXT NOT NULL DEFAULT '';
`, `
CREATE TABLE run (id TEXT PRIMARY KEY) WITHOUT ROWID;
`, `
ALTER TABLE operation ADD COLUMN computer TEXT NOT NULL DEFAULT '';
`}}

// State is the open database of what is remembered: builds, lanes, changes, backups.
type State struct {
	DB     *sql.DB
	Player PlayerFiles // what is remembered of players' own files
	// Aliases tell which content is meant by digests of distributors.
	Aliases *alias.Table
	// Computer is the name of this one, for what is noted to go on.
	Computer string
	run      string // see Sign
}

// aliasFile is kept beside the database.
const aliasFile = "aliases.db"

// Open opens the database in a file, and makes it if there is none.
func Open(ctx context.Context, file string) (*State, error) {
	db, err := database.Open(ctx, file, schema)
	if err != nil {
		return nil, err
	}
	computer, _ := os.Hostname()
	return &State{
		DB: db, Player: PlayerFiles{db}, Aliases: alias.At(filepath.Join(filepath.Dir(file), aliasFile)),
		Computer: computer, run: NewUID()[:runLength],
	}, nil
}

// NewUID returns a name that no other build or change has.
func NewUID() string { return rand.Text() }

// SetOpen says whether updates are let in although a lane is held.
func (st *State) SetOpen(ctx context.Context, name, lane string, open bool) error {
	p, err := st.Pin(ctx, name, lane)
	if err != nil || !p.Held() || p.Open == open {
		return err
	}
	p.Open = open
	text, err := json.Marshal(p)
	if err != nil {
		return err
	}
	_, err = st.DB.ExecContext(ctx, `UPDATE lane SET pin = ? WHERE game = ? AND name = ?`, string(text), name, lane)
	return err
}

// Pin returns what a lane is held to.
func (st *State) Pin(ctx context.Context, name, lane string) (Pin, error) {
	var text string
	err := st.DB.QueryRowContext(ctx, `SELECT pin FROM lane WHERE game = ? AND name = ?`, name, lane).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return Pin{}, nil
	}
	if err != nil {
		return Pin{}, err
	}
	var p Pin
	if err := json.Unmarshal([]byte(text), &p); err != nil {
		return Pin{}, fmt.Errorf("%w: the pin of lane %s: %v", database.ErrDamaged, lane, err)
	}
	return p, nil
}

// Applied returns what blocks a lane, and what was found where it was set; nil if
// nothing does.
func (st *State) Applied(ctx context.Context, name, lane string) ([]*block.Applied, error) {
	var text string
	err := st.DB.QueryRowContext(ctx, `SELECT body FROM block WHERE game = ? AND lane = ?`, name, lane).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var list []*block.Applied
	if err := json.Unmarshal([]byte(text), &list); err != nil {
		return nil, fmt.Errorf("%w: the block of lane %s: %v", database.ErrDamaged, lane, err)
	}
	return list, nil
}

// SetApplied remembers what blocks a lane.
func (st *State) SetApplied(ctx context.Context, name, lane string, list []*block.Applied) error {
	if len(list) == 0 {
		_, err := st.DB.ExecContext(ctx, `DELETE FROM block WHERE game = ? AND lane = ?`, name, lane)
		return err
	}
	text, err := json.Marshal(list)
	if err != nil {
		return err
	}
	_, err = st.DB.ExecContext(ctx, `INSERT OR REPLACE INTO block (game, lane, body) VALUES (?, ?, ?)`, name, lane, string(text))
	return err
}

// ChangeKind is what kind of change one is.
type ChangeKind string

// The kinds, as the database and the history's documents name them.
const (
	ChangePin    ChangeKind = "pin"
	ChangeUnpin  ChangeKind = "unpin"
	ChangeUndo   ChangeKind = "undo"
	ChangeRepair ChangeKind = "repair"
	ChangeKeep   ChangeKind = "keep"  // of an update that comes again and again
	ChangeCarry  ChangeKind = "carry" // files of the player's, from another lane, folder or build
)

// Change is one change of a lane, in its history.
type Change struct {
	ID     int64         `json:"id"`
	UID    string        `json:"uid"`
	Game   string        `json:"game"`
	Lane   string        `json:"lane"`
	Made   time.Time     `json:"made"`
	What   ChangeKind    `json:"what"`
	Build  string        `json:"build"`  // label of the build it led to, if any
	Undoes int64         `json:"undoes"` // the change that it took back, or 0
	Undone int64         `json:"undone"` // the change that took it back, or 0
	Steps  digest.Digest `json:"steps"`  // what was changed; in the store
	Totals Totals        `json:"totals"`
	Before Pin           `json:"pin_before"`
	After  Pin           `json:"pin_after"`
	// Notes is what else the player should know of it: files that were in the way.
	Notes string `json:"notes,omitempty"`
	// Repeats is an earlier change in whose place this one goes in the history, for it did the
	// same; 0: none.
	Repeats int64 `json:"-"`
}

// Totals sums up a change for its line in the history.
type Totals struct {
	Replaced int   `json:"replaced"`
	Added    int   `json:"added"`
	Removed  int   `json:"removed"`
	Moved    int   `json:"moved"`
	Retimed  int   `json:"retimed"`
	Written  int64 `json:"written_bytes"`
	Made     int   `json:"folders_made,omitempty"`
	Unmade   int   `json:"folders_removed,omitempty"`
	// Update is the name of the update that had come before the change, and ended with it; empty: none had.
	Update string `json:"update,omitempty"`
	Times  int    `json:"times,omitempty"` // that it has been made, one time like the other; 0: once
}

// RecordChange adds a change to the history and sets the lane's pin to what it
// left. Recording the same change again does nothing.
func (st *State) RecordChange(ctx context.Context, c *Change) error {
	var columns [3][]byte
	for i, v := range []any{c.Totals, c.Before, c.After} {
		var err error
		if columns[i], err = json.Marshal(v); err != nil {
			return err
		}
	}
	tx, err := st.DB.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if c.Repeats != 0 {
		c.ID = c.Repeats
		_, err := tx.ExecContext(ctx, `UPDATE change SET uid = ?, made = ?, steps = ?, totals = ?, notes = ? WHERE id = ?`,
			c.UID, c.Made.UnixNano(), c.Steps[:], string(columns[0]), c.Notes, c.ID)
		return errors.Join(err, tx.Commit())
	}
	res, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO change (uid, game, lane, made, what, build, undoes, undone, steps, totals, pin_before, pin_after, notes)
		VALUES (?, ?, ?, ?, ?, ?, ?, 0, ?, ?, ?, ?, ?)`,
		c.UID, c.Game, c.Lane, c.Made.UnixNano(), c.What, c.Build, c.Undoes, c.Steps[:], string(columns[0]), string(columns[1]), string(columns[2]), c.Notes)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil {
		return err
	} else if n == 0 {
		return tx.QueryRowContext(ctx, `SELECT id FROM change WHERE uid = ?`, c.UID).Scan(&c.ID)
	}
	if c.ID, err = res.LastInsertId(); err != nil {
		return err
	}
	if c.Undoes != 0 {
		if _, err := tx.ExecContext(ctx, `UPDATE change SET undone = ? WHERE id = ?`, c.ID, c.Undoes); err != nil {
			return err
		}
		// What an undo had taken back stands again once the undo is taken back.
		if _, err := tx.ExecContext(ctx, `UPDATE change SET undone = 0 WHERE undone = ?`, c.Undoes); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO lane (game, name, pin) VALUES (?, ?, ?)
		ON CONFLICT (game, name) DO UPDATE SET pin = excluded.pin`, c.Game, c.Lane, string(columns[2])); err != nil {
		return err
	}
	return tx.Commit()
}

// History lists the changes of a lane, the newest first; of all lanes of all
// games if name is empty.
func (st *State) History(ctx context.Context, name, lane string) ([]*Change, error) {
	rows, err := st.DB.QueryContext(ctx, `SELECT id, uid, game, lane, made, what, build, undoes, undone, steps, totals, pin_before, pin_after, notes
		FROM change WHERE game = ? AND lane = ? OR ? = '' ORDER BY id DESC`, name, lane, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []*Change
	for rows.Next() {
		c := &Change{}
		var made int64
		var steps []byte
		var totals, before, after string
		if err := rows.Scan(&c.ID, &c.UID, &c.Game, &c.Lane, &made, &c.What, &c.Build, &c.Undoes, &c.Undone, &steps, &totals, &before, &after, &c.Notes); err != nil {
			return nil, err
		}
		c.Made = time.Unix(0, made)
		if c.Steps, err = digest.FromBytes(steps); err != nil {
			return nil, fmt.Errorf("%w: change %d: %v", database.ErrDamaged, c.ID, err)
		}
		err := errors.Join(json.Unmarshal([]byte(totals), &c.Totals), json.Unmarshal([]byte(before), &c.Before), json.Unmarshal([]byte(after), &c.After))
		if err != nil {
			return nil, fmt.Errorf("%w: change %d: %v", database.ErrDamaged, c.ID, err)
		}
		list = append(list, c)
	}
	return list, rows.Err()
}

// SetOutput keeps what the steps after a change have said.
func (st *State) SetOutput(ctx context.Context, id int64, text string) error {
	_, err := st.DB.ExecContext(ctx, `UPDATE change SET output = ? WHERE id = ?`, text, id)
	return err
}

// Output returns what the steps after a change have said.
func (st *State) Output(ctx context.Context, name string, id int64) (string, error) {
	var text string
	err := st.DB.QueryRowContext(ctx, `SELECT output FROM change WHERE game = ? AND id = ?`, name, id).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return "", &UnknownError{Kind: "change", Name: fmt.Sprint(id)}
	}
	return text, err
}

// ForgetChanges forgets the changes of a game that were made before t; they can
// not be taken back any more.
func (st *State) ForgetChanges(ctx context.Context, name string, t time.Time) (int64, error) {
	res, err := st.DB.ExecContext(ctx, `DELETE FROM change WHERE game = ? AND made < ?`, name, t.UnixNano())
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

// ForgetGame forgets all of a game.
func (st *State) ForgetGame(ctx context.Context, name string) error {
	tx, err := st.DB.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, query := range []string{`DELETE FROM fact WHERE name = 'block originals ' || ?`, `DELETE FROM build WHERE game = ?`, `DELETE FROM lane WHERE game = ?`, `DELETE FROM change WHERE game = ?`, `DELETE FROM own_note WHERE game = ?`, `DELETE FROM block WHERE game = ?`, `DELETE FROM live WHERE game = ?`, `DELETE FROM saves WHERE game = ?`, `DELETE FROM operation WHERE game = ?`, `DELETE FROM own WHERE game = ?`, `DELETE FROM gone WHERE game = ?`} {
		if _, err := tx.ExecContext(ctx, query, name); err != nil {
			return err
		}
	}
	return tx.Commit()
}
