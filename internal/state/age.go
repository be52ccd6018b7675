package state

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
)

// Age tells a state from others, and from itself at another time.
type Age struct {
	Home       string `json:"home" toml:"home,omitempty"`             // made once, with the state
	Generation int64  `json:"generation" toml:"generation,omitempty"` // grows with each change of it
	// Run is the run of the program that wrote it. A state knows of its own runs: one that was put back, and has grown as old in
	// another way, does not know of those in between.
	Run string `json:"run,omitempty" toml:"run,omitempty"`
}

const runLength = 12

// aged are the tables whose changes make the state older: what cannot be found out again.
var aged = []string{"build", "lane", "live", "change", "block", "saves", "own", "own_note"}

// ageStep is the step of the schema that gives a state its age.
func ageStep() string {
	var b strings.Builder
	b.WriteString(`
CREATE TABLE age (one INTEGER PRIMARY KEY CHECK (one = 1), home TEXT NOT NULL, generation INTEGER NOT NULL);
INSERT INTO age (one, home, generation) VALUES (1, lower(hex(randomblob(16))), 1);
`)
	for _, table := range aged {
		for _, what := range []string{"INSERT", "UPDATE", "DELETE"} {
			b.WriteString("CREATE TRIGGER age_" + table + "_" + strings.ToLower(what) + " AFTER " + what + " ON " + table +
				" BEGIN UPDATE age SET generation = generation + 1; END;\n")
		}
	}
	return b.String()
}

// Age returns how old the state is.
func (st *State) Age(ctx context.Context) (a Age, err error) {
	err = st.DB.QueryRowContext(ctx, `SELECT home, generation FROM age`).Scan(&a.Home, &a.Generation)
	return a, err
}

// Sign is Age for what is written elsewhere: the state knows this run from now on.
func (st *State) Sign(ctx context.Context) (a Age, err error) {
	if a, err = st.Age(ctx); err != nil {
		return a, err
	}
	a.Run = st.run
	_, err = st.DB.ExecContext(ctx, `INSERT OR IGNORE INTO run (id) VALUES (?)`, st.run)
	return a, err
}

// Lost reports whether something was written by this home at an age that it does not remember: it has been put back to before that.
func (st *State) Lost(ctx context.Context, a Age) (bool, error) {
	is, err := st.Age(ctx)
	if err != nil || a.Home != is.Home {
		return false, err
	}
	if a.Run != "" {
		known := 0
		if err := st.DB.QueryRowContext(ctx, `SELECT count(*) FROM run WHERE id = ?`, a.Run).Scan(&known); err != nil || known == 0 {
			return err == nil, err
		}
	}
	spans, err := spansOf(ctx, st)
	return a.Generation > is.Generation || slices.ContainsFunc(spans, func(s span) bool { return s.From < a.Generation && a.Generation <= s.To }), err
}

// span are the generations that a state does not remember, after From and up to To.
type span struct{ From, To int64 }

const factSpans = "generations-lost"

func spansOf(ctx context.Context, st *State) (list []span, err error) {
	text, err := st.Fact(ctx, factSpans)
	if err != nil || text == "" {
		return nil, err
	}
	return list, json.Unmarshal([]byte(text), &list)
}

// Outgrow makes the state older than what was found to be newer, and remembers that it was lost.
func (st *State) Outgrow(ctx context.Context, found Age) error {
	is, err := st.Age(ctx)
	if err != nil || found.Generation <= is.Generation {
		return err
	}
	spans, err := spansOf(ctx, st)
	if err != nil {
		return err
	}
	text, err := json.Marshal(append(spans, span{is.Generation, found.Generation}))
	if err != nil {
		return err
	}
	if err := st.SetFact(ctx, factSpans, string(text)); err != nil {
		return err
	}
	_, err = st.DB.ExecContext(ctx, `UPDATE age SET generation = ?`, found.Generation+1)
	return err
}

// FactOlder remembers when this state was found to be older than what stands beside it (RFC 3339): for some
// time nothing is dropped from the store for not being known.
const FactOlder = "state-older"
