package state

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"morvant/internal/digest"
)

// BegunKind is what can have begun, and be left unfinished by a run that is killed. Each is noted
// before anything of it happens, and the note goes when all of it is over; so the next
// command knows what there is to finish or to take back.
type BegunKind string

// The kinds, as the database names them.
const (
	BegunChange    BegunKind = "change"     // of a lane's files, with everything that follows it
	BegunBlock     BegunKind = "block"      // setting a lane's block or taking it off
	BegunLetUpdate BegunKind = "let-update" // waiting for an update, with the block off
	BegunFetch     BegunKind = "fetch"      // bringing content here
	BegunNew       BegunKind = "new"        // making a lane
	BegunRename    BegunKind = "rename"     // of a lane
	BegunRemove    BegunKind = "remove"     // of a lane
	BegunMove      BegunKind = "move"       // of a lane's folder
	BegunImport    BegunKind = "import"     // moving files of a folder into the store
	BegunTied      BegunKind = "tied"       // bringing several games to a build, all or none
	BegunSwitch    BegunKind = "switch"     // of the live lane
	BegunShare     BegunKind = "share"      // making a folder of a lane a link to one place
	BegunUnshare   BegunKind = "unshare"    // putting a folder back in the place of a link
	BegunSaves     BegunKind = "saves"      // bringing saves back, or putting them away
)

// Begun is a note of something that has begun.
type Begun struct {
	ID         int64 // grows: what began within something else has the greater one
	Game, Lane string
	Kind       BegunKind
	UID        string
	Body       json.RawMessage // the business of whoever finishes it
	Computer   string          // on which it began: a home can be carried around, or lie on a share; empty: not known
}

// Fetch is the body of a BegunFetch.
type Fetch struct {
	Chunks digest.Digest `json:"chunks"` // of the list of the chunks' digests, one after the other, in the store
	Since  time.Time     `json:"since"`
	Owner  string        `json:"owner"` // of its unfinished packs
}

// Moving is the body of a BegunImport: what has been moved into the store, and is in no build yet.
type Moving struct {
	Sources []Moved `json:"sources"`
}

// Moved is what has been moved out of a folder.
type Moved struct {
	Source     string        `json:"source"` // the folder, as an absolute path
	Folder     string        `json:"folder"` // it, or the one in it that is the game
	Manifest   digest.Digest `json:"manifest"`
	Attributes digest.Digest `json:"attributes"`
}

// Begin notes that something begins; body is encoded as JSON.
func (st *State) Begin(ctx context.Context, game, lane string, kind BegunKind, uid string, body any) error {
	return st.Note(ctx, &Begun{Game: game, Lane: lane, Kind: kind, UID: uid}, body)
}

// Note notes that something begins, or has gone on; body is encoded as JSON.
func (st *State) Note(ctx context.Context, b *Begun, body any) (err error) {
	if b.Body, err = json.Marshal(body); err != nil {
		return err
	}
	return st.DB.QueryRowContext(ctx, `INSERT INTO operation (game, lane, kind, uid, body, computer) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (game, lane, kind) DO UPDATE SET uid = excluded.uid, body = excluded.body, computer = excluded.computer RETURNING id`,
		b.Game, b.Lane, b.Kind, b.UID, string(b.Body), st.Computer).Scan(&b.ID)
}

// TakeOver makes this computer the one on which what has begun with a game goes on.
func (st *State) TakeOver(ctx context.Context, game string) error {
	_, err := st.DB.ExecContext(ctx, `UPDATE operation SET computer = ? WHERE game = ?`, st.Computer, game)
	return err
}

// Elsewhere reports whether something began on another computer.
func (b Begun) Elsewhere(st *State) bool { return b.Computer != "" && b.Computer != st.Computer }

// Over forgets the note of something that is over.
func (st *State) Over(ctx context.Context, b Begun) error {
	_, err := st.DB.ExecContext(ctx, `DELETE FROM operation WHERE id = ?`, b.ID)
	return err
}

// End forgets what has begun of a kind, for it is over. It does nothing if nothing had begun.
func (st *State) End(ctx context.Context, game, lane string, kind BegunKind) error {
	_, err := st.DB.ExecContext(ctx, `DELETE FROM operation WHERE game = ? AND lane = ? AND kind = ?`, game, lane, kind)
	return err
}

// Begun lists what has begun and is not over, of one game; of all if its name is empty. The last that began comes first: it may be
// a part of another one.
func (st *State) Begun(ctx context.Context, game string) ([]Begun, error) {
	rows, err := st.DB.QueryContext(ctx, `SELECT id, game, lane, kind, uid, body, computer FROM operation WHERE game = ? OR ? = '' ORDER BY id DESC`, game, game)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Begun
	for rows.Next() {
		var b Begun
		var body string
		if err := rows.Scan(&b.ID, &b.Game, &b.Lane, &b.Kind, &b.UID, &body, &b.Computer); err != nil {
			return nil, err
		}
		b.Body = json.RawMessage(body)
		list = append(list, b)
	}
	return list, rows.Err()
}

// operationStep brings all notes of what has begun into one table: those of switches, saves and shares were kept apart.
const operationStep = `
CREATE TABLE operation (
	id INTEGER PRIMARY KEY AUTOINCREMENT, game TEXT NOT NULL, lane TEXT NOT NULL, kind TEXT NOT NULL, uid TEXT NOT NULL, body TEXT NOT NULL,
	UNIQUE (game, lane, kind)
);
INSERT INTO operation (game, lane, kind, uid, body) SELECT game, lane, kind, uid,
	json_object('changes', json_array(json_object('game', game, 'uid', uid), json_object('game', json_extract(body, '$.game'), 'uid', json_extract(body, '$.uid'))))
	FROM begun WHERE kind = 'tied';
INSERT INTO operation (game, lane, kind, uid, body) SELECT game, lane, kind, uid, body FROM begun WHERE kind <> 'tied' ORDER BY kind = 'let-update' DESC, kind = 'change';
INSERT INTO operation (game, lane, kind, uid, body) SELECT game, '', 'saves', '', body FROM restoring;
INSERT OR IGNORE INTO operation (game, lane, kind, uid, body) SELECT game, name, 'share', '', s.value
	FROM lane, json_each(lane.body, '$.shares') AS s WHERE json_extract(s.value, '$.from') <> '';
INSERT INTO operation (game, lane, kind, uid, body) SELECT game, '', 'switch', '', switching FROM live WHERE switching <> '';
DROP TABLE begun;
DROP TABLE restoring;
ALTER TABLE live DROP COLUMN switching;
`

// Changed reports whether a change is in the history.
func (st *State) Changed(ctx context.Context, uid string) (bool, error) {
	var n int
	err := st.DB.QueryRowContext(ctx, `SELECT count(*) FROM change WHERE uid = ?`, uid).Scan(&n)
	return n > 0, err
}

// Fact returns something that is remembered of this home; empty if nothing is.
func (st *State) Fact(ctx context.Context, name string) (string, error) {
	var value string
	err := st.DB.QueryRowContext(ctx, `SELECT value FROM fact WHERE name = ?`, name).Scan(&value)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return value, err
}

// SetFact remembers something of this home; an empty value forgets it.
func (st *State) SetFact(ctx context.Context, name, value string) error {
	if value == "" {
		_, err := st.DB.ExecContext(ctx, `DELETE FROM fact WHERE name = ?`, name)
		return err
	}
	_, err := st.DB.ExecContext(ctx, `INSERT OR REPLACE INTO fact (name, value) VALUES (?, ?)`, name, value)
	return err
}
