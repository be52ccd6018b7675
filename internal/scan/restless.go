package scan

import (
	"context"
	"encoding/json"
)

// RestlessFrom is from which size on, in bytes, it is remembered how often a file has changed.
const RestlessFrom = 32 << 20

// restless is what is remembered of one large file.
type restless struct {
	Size, MTime, CTime int64
	Ino                uint64
	Changes            int  // looks in a row at which it had changed
	Alone              bool // at the last of them, hardly anything else had
}

// few is up to how many other files may have changed with a restless one: more are an update, or mods.
const few = 2

// Restless says of each large file of the tree at how many looks in a row, up to this one, it had changed. A look
// is a run of the program: in one run, only the first call counts. It goes by what Recall has found.
func (c *Cache) Restless(ctx context.Context, root string, t *Tree) error {
	var large []*Entry
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind == File && e.Stamp.Size >= RestlessFrom {
			large = append(large, e)
		}
	}
	if len(large) == 0 {
		return nil
	}
	was, counted := c.restless[root]
	if !counted {
		var err error
		if was, err = c.restlessOf(ctx, root); err != nil {
			return err
		}
	}
	is, changed := make(map[string]restless, len(large)), false
	for _, e := range large {
		before, known := was[e.Path]
		now := restless{Size: e.Stamp.Size, MTime: e.Stamp.MTime, CTime: e.Stamp.CTime, Ino: e.Stamp.Ino, Changes: before.Changes, Alone: before.Alone}
		same := before.Size == now.Size && before.MTime == now.MTime && before.CTime == now.CTime && before.Ino == now.Ino
		switch {
		case counted:
			now = before
		case !known:
		case same:
			now.Changes = 0
		default:
			now.Changes, now.Alone = before.Changes+1, c.moved[root] <= few
		}
		changed = changed || !counted && now != before
		e.Changes, e.Alone = now.Changes, now.Alone
		is[e.Path] = now
	}
	c.restless[root] = is
	if !changed {
		return nil
	}
	blob, err := json.Marshal(is)
	if err != nil {
		return err
	}
	return c.exec(ctx, `INSERT OR REPLACE INTO restless (root, files) VALUES (?, ?)`, root, blob)
}

func (c *Cache) restlessOf(ctx context.Context, root string) (map[string]restless, error) {
	blob, err := c.one(ctx, `SELECT files FROM restless WHERE root = ?`, root)
	var was map[string]restless
	if err == nil && blob != nil && json.Unmarshal(blob, &was) != nil {
		was = nil
	}
	return was, err
}
