package state

import (
	"context"
	"strings"
)

// Age tells a state from others, and from itself at another time.
type Age struct {
	Home       string `json:"home" toml:"home,omitempty"`             // made once, with the state
	Generation int64  `json:"generation" toml:"generation,omitempty"` // grows with each change of it
}

// Before reports whether a state of this age is older than what another, written beside it, is of.
func (a Age) Before(o Age) bool { return o.Home == a.Home && o.Generation > a.Generation }

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

// Outgrow makes the state older than what was found to be newer.
func Outgrow(ctx context.Context, st *State, found Age) error {
	_, err := st.DB.ExecContext(ctx, `UPDATE age SET generation = max(generation, ?) + 1`, found.Generation)
	return err
}

// FactOlder remembers when this state was found to be older than what stands beside it (RFC 3339): for some
// time nothing is dropped from the store for not being known.
const FactOlder = "state-older"
