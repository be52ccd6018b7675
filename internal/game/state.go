package game

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

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
`}}

// Build is a state of a game's files that can be gone back to. In this version
// every build is a snapshot, with the whole folder as its one component.
type Build struct {
	UID        string        `json:"uid"`
	Game       string        `json:"game"`
	Label      string        `json:"label"`
	Note       string        `json:"note"`
	Made       time.Time     `json:"made"`
	Manifest   digest.Digest `json:"manifest"`
	Attributes digest.Digest `json:"attributes"`
	Files      int           `json:"files"`
	Bytes      int64         `json:"bytes"`
	// Record is the note in the store from which the build can be found again.
	Record digest.Digest `json:"-"`
}

// wholeFolder is the name of a snapshot's only component.
const wholeFolder = "folder"

// Digest returns the digest of the build: that of the sorted list of its
// components, a line each, name, space, manifest digest.
func (b *Build) Digest() digest.Digest {
	return digest.Of(fmt.Appendf(nil, "%s %s\n", wholeFolder, b.Manifest))
}

// NewUID returns a name that no other build or change has.
func NewUID() string { return rand.Text() }

// recordFormat starts the note that describes a build in the store.
const recordFormat = "morvant-build/1"

type buildRecord struct {
	Format string `json:"format"`
	Build
}

// EncodeRecord returns the note that describes b in the store.
func (b *Build) EncodeRecord() ([]byte, error) {
	return json.Marshal(buildRecord{recordFormat, *b})
}

// DecodeRecord reads what EncodeRecord wrote.
func DecodeRecord(note []byte) (*Build, error) {
	var r buildRecord
	if err := json.Unmarshal(note, &r); err != nil {
		return nil, err
	}
	if r.Format != recordFormat {
		return nil, fmt.Errorf("a note of format %q: %w", r.Format, ErrUnknown)
	}
	if err := errors.Join(CheckName(r.Game), CheckLabel(r.Label)); err != nil {
		return nil, err
	}
	r.Record = digest.Of(note)
	return &r.Build, nil
}

// Pin is what a lane is held to. The zero value holds it to nothing.
type Pin struct {
	Build string    `json:"build,omitempty"` // UID of the build
	Clean bool      `json:"clean,omitempty"` // extra files count as drift
	Exact bool      `json:"exact,omitempty"` // so do the player's own
	Since time.Time `json:"since,omitzero"`
	// First is the number of the change that began the hold; taking back that
	// one and all later ones leads to the folder from before.
	First string `json:"first,omitempty"`
}

// Held reports whether the pin holds the lane to anything.
func (p Pin) Held() bool { return p.Build != "" }

// MainLane is the name of the only lane a game has in this version.
const MainLane = "main"

// AddBuild remembers a build.
func (h *Home) AddBuild(ctx context.Context, b *Build) error {
	var taken int
	if err := h.db.QueryRowContext(ctx, `SELECT count(*) FROM build WHERE game = ? AND label = ?`, b.Game, b.Label).Scan(&taken); err != nil {
		return err
	}
	if taken > 0 {
		return fmt.Errorf("a snapshot labelled %s is %w", b.Label, ErrExists)
	}
	_, err := h.db.ExecContext(ctx, `INSERT INTO build (uid, game, label, note, made, manifest, attributes, files, bytes, record)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		b.UID, b.Game, b.Label, b.Note, b.Made.UnixNano(), b.Manifest[:], b.Attributes[:], b.Files, b.Bytes, b.Record[:])
	return err
}

// Builds lists the builds of a game, the newest first; of all games if name is empty.
func (h *Home) Builds(ctx context.Context, name string) ([]*Build, error) {
	rows, err := h.db.QueryContext(ctx, `SELECT uid, game, label, note, made, manifest, attributes, files, bytes, record FROM build
		WHERE game = ? OR ? = '' ORDER BY made DESC, id DESC`, name, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []*Build
	for rows.Next() {
		b := &Build{}
		var made int64
		var m, a, r []byte
		if err := rows.Scan(&b.UID, &b.Game, &b.Label, &b.Note, &made, &m, &a, &b.Files, &b.Bytes, &r); err != nil {
			return nil, err
		}
		b.Made = time.Unix(0, made)
		for into, from := range map[*digest.Digest][]byte{&b.Manifest: m, &b.Attributes: a, &b.Record: r} {
			if *into, err = digest.FromBytes(from); err != nil {
				return nil, fmt.Errorf("%w: build %s: %v", database.ErrDamaged, b.Label, err)
			}
		}
		list = append(list, b)
	}
	return list, rows.Err()
}

// BuildByUID returns a build of a game.
func (h *Home) BuildByUID(ctx context.Context, name, uid string) (*Build, error) {
	list, err := h.Builds(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, b := range list {
		if b.UID == uid {
			return b, nil
		}
	}
	return nil, fmt.Errorf("the build that %s is held to is %w any more", name, ErrUnknown)
}

// ForgetBuild forgets a build; its content stays in the store until it is trimmed.
func (h *Home) ForgetBuild(ctx context.Context, b *Build) error {
	_, err := h.db.ExecContext(ctx, `DELETE FROM build WHERE uid = ?`, b.UID)
	return err
}

// Pin returns what a lane is held to.
func (h *Home) Pin(ctx context.Context, name, lane string) (Pin, error) {
	var text string
	err := h.db.QueryRowContext(ctx, `SELECT pin FROM lane WHERE game = ? AND name = ?`, name, lane).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return Pin{}, nil
	}
	if err != nil {
		return Pin{}, err
	}
	var p Pin
	return p, json.Unmarshal([]byte(text), &p)
}

// Change is one change of a lane, in its history.
type Change struct {
	ID     int64         `json:"id"`
	UID    string        `json:"uid"`
	Game   string        `json:"game"`
	Lane   string        `json:"lane"`
	Made   time.Time     `json:"made"`
	What   string        `json:"what"`   // "pin", "unpin", "undo", "repair"
	Build  string        `json:"build"`  // label of the build it led to, if any
	Undoes int64         `json:"undoes"` // the change that it took back, or 0
	Undone int64         `json:"undone"` // the change that took it back, or 0
	Steps  digest.Digest `json:"steps"`  // what was changed; in the store
	Totals Totals        `json:"totals"`
	Before Pin           `json:"pin_before"`
	After  Pin           `json:"pin_after"`
}

// Totals sums up a change for its line in the history.
type Totals struct {
	Replaced int   `json:"replaced"`
	Added    int   `json:"added"`
	Removed  int   `json:"removed"`
	Moved    int   `json:"moved"`
	Retimed  int   `json:"retimed"`
	Written  int64 `json:"written_bytes"`
}

// RecordChange adds a change to the history and sets the lane's pin to what it
// left. Recording the same change again does nothing.
func (h *Home) RecordChange(ctx context.Context, c *Change) error {
	var columns [3][]byte
	for i, v := range []any{c.Totals, c.Before, c.After} {
		var err error
		if columns[i], err = json.Marshal(v); err != nil {
			return err
		}
	}
	tx, err := h.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	res, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO change (uid, game, lane, made, what, build, undoes, undone, steps, totals, pin_before, pin_after)
		VALUES (?, ?, ?, ?, ?, ?, ?, 0, ?, ?, ?, ?)`,
		c.UID, c.Game, c.Lane, c.Made.UnixNano(), c.What, c.Build, c.Undoes, c.Steps[:], string(columns[0]), string(columns[1]), string(columns[2]))
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return err
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
	if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO lane (game, name, pin) VALUES (?, ?, ?)`, c.Game, c.Lane, string(columns[2])); err != nil {
		return err
	}
	return tx.Commit()
}

// History lists the changes of a lane, the newest first; of all lanes of all
// games if name is empty.
func (h *Home) History(ctx context.Context, name, lane string) ([]*Change, error) {
	rows, err := h.db.QueryContext(ctx, `SELECT id, uid, game, lane, made, what, build, undoes, undone, steps, totals, pin_before, pin_after
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
		if err := rows.Scan(&c.ID, &c.UID, &c.Game, &c.Lane, &made, &c.What, &c.Build, &c.Undoes, &c.Undone, &steps, &totals, &before, &after); err != nil {
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

// ForgetChanges forgets the changes of a game that were made before t; they can
// not be taken back any more.
func (h *Home) ForgetChanges(ctx context.Context, name string, t time.Time) (int64, error) {
	res, err := h.db.ExecContext(ctx, `DELETE FROM change WHERE game = ? AND made < ?`, name, t.UnixNano())
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

// Forget forgets a game: its settings, builds, pins and history.
func (h *Home) Forget(ctx context.Context, name string) error {
	tx, err := h.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, query := range []string{`DELETE FROM build WHERE game = ?`, `DELETE FROM lane WHERE game = ?`, `DELETE FROM change WHERE game = ?`} {
		if _, err := tx.ExecContext(ctx, query, name); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	return os.Remove(h.settingsFile(name))
}
