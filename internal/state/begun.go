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
	BegunTied      BegunKind = "tied"       // bringing two games to a build, of which this is the first
)

// Begun is a note of something that has begun.
type Begun struct {
	Game, Lane string
	Kind       BegunKind
	UID        string
	Body       json.RawMessage // the business of whoever finishes it
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
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	_, err = st.DB.ExecContext(ctx, `INSERT OR REPLACE INTO begun (game, lane, kind, uid, body) VALUES (?, ?, ?, ?, ?)`, game, lane, kind, uid, string(text))
	return err
}

// End notes that something is over. It does nothing if nothing had begun.
func (st *State) End(ctx context.Context, game, lane string, kind BegunKind) error {
	_, err := st.DB.ExecContext(ctx, `DELETE FROM begun WHERE game = ? AND lane = ? AND kind = ?`, game, lane, kind)
	return err
}

// Begun lists what has begun and is not over, of one game; of all if its name is empty.
func (st *State) Begun(ctx context.Context, game string) ([]Begun, error) {
	rows, err := st.DB.QueryContext(ctx, `SELECT game, lane, kind, uid, body FROM begun WHERE game = ? OR ? = '' ORDER BY game, lane, kind`, game, game)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Begun
	for rows.Next() {
		var b Begun
		var body string
		if err := rows.Scan(&b.Game, &b.Lane, &b.Kind, &b.UID, &body); err != nil {
			return nil, err
		}
		b.Body = json.RawMessage(body)
		list = append(list, b)
	}
	return list, rows.Err()
}

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
