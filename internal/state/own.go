package state

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"morvant/internal/database"
	"morvant/internal/digest"
)

// Own is a record of the player's own files of a lane: those under keep rules, as they were at a
// time. A watch makes them.
type Own struct {
	ID         int64
	Game, Lane string
	Made       time.Time
	Manifest   digest.Digest
	Attributes digest.Digest
	Files      int
	Bytes      int64
	Guard      bool // of the files under guard rules, as they are to be; a lane has one such record
}

// Build is the record as a snapshot would be, to be read like one. It is in no list of builds.
func (o *Own) Build() *Build {
	return &Build{Game: o.Game, Label: "your own files", Made: o.Made, Manifest: o.Manifest, Attributes: o.Attributes, Files: o.Files, Bytes: o.Bytes}
}

// PlayerFiles is what is remembered of players' own files.
type PlayerFiles struct{ db *sql.DB }

// AddOwn remembers a record.
func (p *PlayerFiles) AddOwn(ctx context.Context, o *Own) error {
	res, err := p.db.ExecContext(ctx, `INSERT INTO own (game, lane, made, manifest, attributes, files, bytes, guard) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		o.Game, o.Lane, o.Made.UnixNano(), o.Manifest[:], o.Attributes[:], o.Files, o.Bytes, o.Guard)
	if err != nil {
		return err
	}
	o.ID, err = res.LastInsertId()
	return err
}

// Owned lists the records of a lane, the newest first; of all lanes of all games if game is empty, and then
// those of guarded files, too.
func (p *PlayerFiles) Owned(ctx context.Context, game, lane string) ([]*Own, error) {
	return p.owned(ctx, `game = ?1 AND lane = ?2 AND guard = 0 OR ?1 = ''`, game, lane)
}

// Guarded returns the record of a lane's guarded files; nil if there is none.
func (p *PlayerFiles) Guarded(ctx context.Context, game, lane string) (*Own, error) {
	list, err := p.owned(ctx, `game = ?1 AND lane = ?2 AND guard = 1`, game, lane)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return list[0], nil
}

// SetGuarded puts a record of a lane's guarded files in the place of the one before.
func (p *PlayerFiles) SetGuarded(ctx context.Context, o *Own) error {
	o.Guard = true
	if err := p.AddOwn(ctx, o); err != nil {
		return err
	}
	_, err := p.db.ExecContext(ctx, `DELETE FROM own WHERE game = ? AND lane = ? AND guard = 1 AND id <> ?`, o.Game, o.Lane, o.ID)
	return err
}

func (p *PlayerFiles) owned(ctx context.Context, where string, args ...any) ([]*Own, error) {
	rows, err := p.db.QueryContext(ctx, `SELECT id, game, lane, made, manifest, attributes, files, bytes, guard FROM own WHERE `+where+` ORDER BY id DESC`, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []*Own
	for rows.Next() {
		o := &Own{}
		var made int64
		var m, a []byte
		if err := rows.Scan(&o.ID, &o.Game, &o.Lane, &made, &m, &a, &o.Files, &o.Bytes, &o.Guard); err != nil {
			return nil, err
		}
		o.Made = time.Unix(0, made)
		for into, from := range map[*digest.Digest][]byte{&o.Manifest: m, &o.Attributes: a} {
			if *into, err = digest.FromBytes(from); err != nil {
				return nil, fmt.Errorf("%w: record %d of a player's files: %v", database.ErrDamaged, o.ID, err)
			}
		}
		list = append(list, o)
	}
	return list, rows.Err()
}

// ForgetOwn forgets a record.
func (p *PlayerFiles) ForgetOwn(ctx context.Context, id int64) error {
	_, err := p.db.ExecContext(ctx, `DELETE FROM own WHERE id = ?`, id)
	return err
}

// Gone is a file of the player's that somebody else has taken away.
type Gone struct {
	Path    string
	Bytes   int64
	Noticed time.Time
}

// Gone lists the player's files of a lane that are gone, by path.
func (p *PlayerFiles) Gone(ctx context.Context, game, lane string) ([]Gone, error) {
	rows, err := p.db.QueryContext(ctx, `SELECT path, bytes, noticed FROM gone WHERE game = ? AND lane = ? ORDER BY path`, game, lane)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Gone
	for rows.Next() {
		var g Gone
		var noticed int64
		if err := rows.Scan(&g.Path, &g.Bytes, &noticed); err != nil {
			return nil, err
		}
		g.Noticed = time.Unix(0, noticed)
		list = append(list, g)
	}
	return list, rows.Err()
}

// SetGone adds files that are gone, and takes away those that are back. Where nothing can be
// written it does nothing: that must keep nobody from looking.
func (p *PlayerFiles) SetGone(ctx context.Context, game, lane string, gone []Gone, back []string) error {
	if len(gone)+len(back) == 0 {
		return nil
	}
	if err := p.setGone(ctx, game, lane, gone, back); err != nil && !database.Unwritable(err) {
		return err
	}
	return nil
}

func (p *PlayerFiles) setGone(ctx context.Context, game, lane string, gone []Gone, back []string) error {
	tx, err := p.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, g := range gone {
		if _, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO gone (game, lane, path, bytes, noticed) VALUES (?, ?, ?, ?, ?)`, game, lane, g.Path, g.Bytes, g.Noticed.UnixNano()); err != nil {
			return err
		}
	}
	for _, path := range back {
		if _, err := tx.ExecContext(ctx, `DELETE FROM gone WHERE game = ? AND lane = ? AND path = ?`, game, lane, path); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// ForgetGone takes it that what is gone is gone on purpose.
func (p *PlayerFiles) ForgetGone(ctx context.Context, game, lane string) error {
	_, err := p.db.ExecContext(ctx, `DELETE FROM gone WHERE game = ? AND lane = ?`, game, lane)
	return err
}
