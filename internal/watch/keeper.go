package watch

import (
	"context"
	"fmt"
	"time"

	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/record"
	"morvant/internal/scan"
)

// keeper records the player's own files and saves for a watch, as they come to rest.
type keeper struct {
	saved time.Time // when the saves were last looked at
	much  bool      // there is too much to record it unasked; said once
}

// record records what is new in a tree that has just been looked at: files under keep rules, and the saves if they have not been looked
// at for a while.
func (o *keeper) record(ctx context.Context, l *lane.Lane, w *Watch, t *scan.Tree) error {
	if l.Unfinished != nil {
		return nil
	}
	r, much, err := record.Own(ctx, l, t)
	switch {
	case err != nil:
		return err
	case r != nil:
		w.Kept(fmt.Sprintf("%d of your own files are recorded", r.Files))
	case much > 0 && !o.much:
		o.much = true
		w.Limit(fmt.Sprintf("%d MB of your own files are not recorded anywhere; that is too much to record unasked, but a snapshot does", much>>20))
	}
	if !l.Live || !o.saved.IsZero() && l.Now().Sub(o.saved) < w.Every {
		return nil
	}
	o.saved = l.Now()
	b, fresh, err := backup.Make(ctx, l, "after they stopped changing")
	if err == nil && fresh {
		w.Kept(fmt.Sprintf("the saves are backed up (%d)", b.ID))
	}
	return err
}
