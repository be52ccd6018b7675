package state

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"morvant/internal/database"
	"morvant/internal/digest"
)

// FactLost is remembered while the state may lack what the store holds: it was lost, and
// no copy was there.
const FactLost = "state-lost"

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
	{"operation", []string{"body"}, nil},
	{"links", []string{"body"}, []string{"digest"}},
	{"own_note", nil, nil},
	{"own", nil, []string{"manifest", "attributes"}},
	{"age", nil, nil},
	{"run", nil, nil},
}

// Salvage copies every row that can be read and is of use, and returns how many.
func Salvage(ctx context.Context, damaged string, into *sql.DB) int {
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
	kept, err := columnsOf(ctx, into, table)
	if err != nil {
		return 0
	}
	var names, marks []string // a column that is no more is left out
	for i, name := range columns {
		if slices.Contains(kept, name) {
			names, marks = append(names, name), append(marks, fmt.Sprintf("?%d", i+1))
		}
	}
	insert := fmt.Sprintf("INSERT OR REPLACE INTO %s (%s) VALUES (%s)", table, strings.Join(names, ", "), strings.Join(marks, ", "))
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

func columnsOf(ctx context.Context, db *sql.DB, table string) ([]string, error) {
	rows, err := db.QueryContext(ctx, "SELECT * FROM "+table+" LIMIT 0")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	return rows.Columns()
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

// ReadAll reads every entry of the state about these games, and returns the first error.
func (st *State) ReadAll(ctx context.Context, names []string) error {
	if err := database.Check(ctx, st.DB); err != nil {
		return err
	}
	if _, err := st.Recorded(ctx, ""); err != nil {
		return err
	}
	if _, err := st.History(ctx, "", ""); err != nil {
		return err
	}
	if _, err := st.Backups(ctx, ""); err != nil {
		return err
	}
	if _, err := st.Player.Owned(ctx, "", ""); err != nil {
		return err
	}
	if _, err := st.Begun(ctx, ""); err != nil {
		return err
	}
	for _, name := range names {
		lanes, err := st.Lanes(ctx, name)
		if err != nil {
			return err
		}
		for _, l := range lanes {
			if _, err := st.Applied(ctx, name, l.Name); err != nil {
				return err
			}
		}
	}
	return nil
}
