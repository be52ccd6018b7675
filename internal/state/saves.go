package state

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"morvant/internal/database"
	"morvant/internal/saves"
)

// AddBackup remembers a backup of saves and gives it its number.
func (st *State) AddBackup(ctx context.Context, b *saves.Backup) error {
	parts, err := json.Marshal(b.Parts)
	if err != nil {
		return err
	}
	res, err := st.DB.ExecContext(ctx, `INSERT INTO saves (game, lane, made, why, build, parts, files, bytes, doubt) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		b.Game, b.Lane, b.Made.UnixNano(), b.Why, b.Build, string(parts), b.Files, b.Bytes, b.Doubt)
	if err != nil {
		return err
	}
	b.ID, err = res.LastInsertId()
	return err
}

// Backups lists the backups of a game's saves, the newest first; of all games if name
// is empty.
func (st *State) Backups(ctx context.Context, name string) ([]*saves.Backup, error) {
	return st.backups(ctx, `game = ?1 OR ?1 = ''`, name)
}

// backups lists the backups for which a condition holds, the newest first.
func (st *State) backups(ctx context.Context, where string, args ...any) ([]*saves.Backup, error) {
	rows, err := st.DB.QueryContext(ctx, `SELECT id, game, lane, made, why, build, parts, files, bytes, doubt FROM saves WHERE `+where+` ORDER BY id DESC`, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []*saves.Backup
	for rows.Next() {
		b := &saves.Backup{}
		var made int64
		var parts string
		if err := rows.Scan(&b.ID, &b.Game, &b.Lane, &made, &b.Why, &b.Build, &parts, &b.Files, &b.Bytes, &b.Doubt); err != nil {
			return nil, err
		}
		b.Made = time.Unix(0, made)
		if err := json.Unmarshal([]byte(parts), &b.Parts); err != nil {
			return nil, fmt.Errorf("%w: backup %d of saves: %v", database.ErrDamaged, b.ID, err)
		}
		list = append(list, b)
	}
	return list, rows.Err()
}

// Backup returns a backup of a game's saves.
func (st *State) Backup(ctx context.Context, name string, id int64) (*saves.Backup, error) {
	list, err := st.backups(ctx, `game = ? AND id = ?`, name, id)
	if err != nil {
		return nil, err
	}
	if len(list) == 1 {
		return list[0], nil
	}
	return nil, &UnknownError{Kind: "backup of saves", Name: fmt.Sprint(id)}
}

// ForgetBackup forgets a backup; the content that only it needed goes with the next
// trim of the store.
func (st *State) ForgetBackup(ctx context.Context, name string, id int64) error {
	_, err := st.DB.ExecContext(ctx, `DELETE FROM saves WHERE game = ? AND id = ?`, name, id)
	return err
}

// Restoring is the body of a BegunSaves: which backup they are to be; 0:
// none, they are to be empty.
type Restoring struct {
	Backup int64         `json:"backup"`
	Places []saves.Place `json:"places"`
	UID    string        `json:"uid,omitempty"` // of the changes in the folders
}
