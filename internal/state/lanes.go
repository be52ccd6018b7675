package state

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"morvant/internal/catalogue"
	"morvant/internal/database"
)

// MainLane is the name of the lane that a game is registered with.
const MainLane = "main"

// Lane is one of a game's parallel installs.
type Lane struct {
	Name string
	Live bool
	Pin  Pin
	LaneState
}

// LaneState is what is remembered of a lane beside its pin.
type LaneState struct {
	// Place is the folder of a lane that is parked or linked; the folder of a live
	// lane that is not linked is the game's live folder.
	Place string `json:"place,omitempty"`
	// Linked lanes stay where they are; the live folder is a link to them.
	Linked bool `json:"linked,omitempty"`
	// Follows says that the lane takes the launcher's updates while it is live. Several may.
	Follows bool      `json:"follows,omitempty"`
	Used    time.Time `json:"used,omitzero"` // when it was live last
	// Saves is the backup of the lane's own saves, put in place when it becomes
	// live; 0: none.
	Saves int64 `json:"saves,omitempty"`
	// Volume tells the file system of the lane's folder, as far as it is known.
	Volume string `json:"volume,omitempty"`
	// Shares are folders that the lane has in common with others, by links.
	Shares []Share `json:"shares,omitempty"`
}

// Share is a folder of a lane that is a link to one place for several lanes.
type Share struct {
	Path   string `json:"path"` // in the lane
	Target string `json:"target"`
}

// CacheKey names a lane for what is remembered of its files.
func CacheKey(name, lane string) string { return name + "/" + lane }

// OriginalsKey names the fact that remembers what the blocks of a game have found in its launcher's
// settings, which all lanes have in common.
func OriginalsKey(game string) string { return "block originals " + game }

// maxLaneName bounds a lane's name, in characters: it is part of the name of a folder.
const maxLaneName = 32

// CheckLaneName returns an error unless name can be the name of a lane.
func CheckLaneName(name string) error {
	if !catalogue.IsTitle(name, maxLaneName) {
		return fmt.Errorf("%w: \"%s\": a lane's name has letters, digits, dots, dashes and single spaces, at most %d, and starts with a letter or digit", ErrName, name, maxLaneName)
	}
	return nil
}

// Lanes lists the lanes of a game, the live one first.
func (st *State) Lanes(ctx context.Context, name string) ([]*Lane, error) {
	live, err := st.LiveLane(ctx, name)
	if err != nil {
		return nil, err
	}
	rows, err := st.DB.QueryContext(ctx, `SELECT name, pin, body FROM lane WHERE game = ? ORDER BY name`, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []*Lane
	for rows.Next() {
		l := &Lane{}
		var pin, body string
		if err := rows.Scan(&l.Name, &pin, &body); err != nil {
			return nil, err
		}
		if err := errors.Join(json.Unmarshal([]byte(pin), &l.Pin), json.Unmarshal([]byte(body), &l.LaneState)); err != nil {
			return nil, fmt.Errorf("%w: lane %s: %v", database.ErrDamaged, l.Name, err)
		}
		l.Live = l.Name == live
		list = append(list, l)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(list, func(l *Lane) bool { return l.Name == live }) {
		list = append(list, &Lane{Name: live, Live: true})
	}
	// The first lane follows updates as long as nothing holds it.
	if len(list) == 1 && !list[0].Pin.Held() {
		list[0].Follows = true
	}
	slices.SortStableFunc(list, func(a, b *Lane) int {
		switch {
		case a.Live == b.Live:
			return 0
		case a.Live:
			return -1
		}
		return 1
	})
	return list, nil
}

// LiveLane returns the name of the live lane.
func (st *State) LiveLane(ctx context.Context, game string) (string, error) {
	var name string
	err := st.DB.QueryRowContext(ctx, `SELECT lane FROM live WHERE game = ?`, game).Scan(&name)
	if errors.Is(err, sql.ErrNoRows) {
		return MainLane, nil
	}
	return name, err
}

// SetLane remembers a lane's state, and the lane itself if it is new.
func (st *State) SetLane(ctx context.Context, game, lane string, s LaneState) error {
	return setLane(ctx, st.DB, game, lane, s)
}

type execer interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

func setLane(ctx context.Context, db execer, game, lane string, s LaneState) error {
	body, err := json.Marshal(s)
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, `INSERT INTO lane (game, name, pin, body) VALUES (?, ?, '{}', ?)
		ON CONFLICT (game, name) DO UPDATE SET body = excluded.body`, game, lane, string(body))
	return err
}

// Switch is an exchange of the live lane.
type Switch struct {
	From string `json:"from"`
	To   string `json:"to"`
	// Park is where the lane that was live goes; Place where the other one was.
	Park       string `json:"park"`
	Place      string `json:"place"`
	FromLinked bool   `json:"from_linked,omitempty"`
	ToLinked   bool   `json:"to_linked,omitempty"`
	// Saves is the backup of the saves of From, if each lane has its own.
	Saves int64  `json:"saves,omitempty"`
	UID   string `json:"uid,omitempty"` // of the changes in the folders of saves
}

// RecordSwitch notes that the folders have changed places.
func (st *State) RecordSwitch(ctx context.Context, game string, s *Switch, now time.Time) error {
	lanes, err := st.Lanes(ctx, game)
	if err != nil {
		return err
	}
	tx, err := st.DB.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, l := range lanes {
		state := l.LaneState
		switch l.Name {
		case s.From:
			state.Place, state.Used = s.Park, now
			if s.Saves != 0 {
				state.Saves = s.Saves
			}
		case s.To:
			state.Used = now
			if !s.ToLinked {
				state.Place = ""
			}
		default:
			continue
		}
		if err := setLane(ctx, tx, game, l.Name, state); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO live (game, lane) VALUES (?, ?) ON CONFLICT (game) DO UPDATE SET lane = excluded.lane`, game, s.To); err != nil {
		return err
	}
	return tx.Commit()
}

// laneTables are the tables that name a lane beside the table of lanes.
var laneTables = []string{"change", "block", "operation", "own", "gone", "saves"}

// RenameLane gives a lane another name.
func (st *State) RenameLane(ctx context.Context, game, from, to string) error {
	if err := CheckLaneName(to); err != nil {
		return err
	}
	lanes, err := st.Lanes(ctx, game)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(lanes, func(l *Lane) bool { return l.Name != from && strings.EqualFold(l.Name, to) }) {
		return fmt.Errorf("a lane named %s is %w", to, ErrExists)
	}
	tx, err := st.DB.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, query := range append(each(laneTables, `UPDATE %s SET lane = ?2 WHERE game = ?3 AND lane = ?1`),
		`UPDATE lane SET name = ?2 WHERE game = ?3 AND name = ?1`,
		`INSERT OR IGNORE INTO live (game, lane) VALUES (?3, 'main')`,
		`UPDATE live SET lane = ?2 WHERE game = ?3 AND lane = ?1`) {
		if _, err := tx.ExecContext(ctx, query, from, to, game); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// ForgetLane forgets a lane, its history and its block.
func (st *State) ForgetLane(ctx context.Context, game, lane string) error {
	tx, err := st.DB.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	// Backups of saves outlive the lane.
	for _, query := range append(each(laneTables[:5], `DELETE FROM %s WHERE game = ? AND lane = ?`), `DELETE FROM lane WHERE game = ? AND name = ?`) {
		if _, err := tx.ExecContext(ctx, query, game, lane); err != nil {
			return err
		}
	}
	return tx.Commit()
}

func each(tables []string, query string) []string {
	var out []string
	for _, t := range tables {
		out = append(out, fmt.Sprintf(query, t))
	}
	return out
}
