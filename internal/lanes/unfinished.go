package lanes

import (
	"context"
	"encoding/json"

	"morvant/internal/lane"
	"morvant/internal/oplog"
	"morvant/internal/state"
)

// Unfinished returns what an earlier run has begun with the lanes of a game, before any of them can be opened; nil: it is of another kind.
func Unfinished(ctx context.Context, l *lane.Lane, b state.Begun) (*oplog.Operation, error) {
	switch b.Kind {
	case state.BegunSwitch:
		return unswitched(l, b)
	case state.BegunNew:
		return unmade(ctx, l, b)
	case state.BegunMove:
		return unmoved(l, b)
	case state.BegunRename:
		var r renaming
		if err := json.Unmarshal(b.Body, &r); err != nil {
			return nil, err
		}
		return renames(l, r, nil), nil
	case state.BegunRemove:
		var r removing
		if err := json.Unmarshal(b.Body, &r); err != nil {
			return nil, err
		}
		return removal(l, r), nil
	}
	return nil, nil
}

// UnfinishedHere returns what an earlier run has begun with a folder that is shared; nil: it is of another kind.
func UnfinishedHere(l *lane.Lane, b state.Begun) (*oplog.Operation, error) {
	switch b.Kind {
	case state.BegunShare:
		s := &sharing{}
		if err := json.Unmarshal(b.Body, s); err != nil {
			return nil, err
		}
		return s.operation(l, true), nil
	case state.BegunUnshare:
		u := &unsharing{}
		if err := json.Unmarshal(b.Body, u); err != nil {
			return nil, err
		}
		return u.operation(l, true), nil
	}
	return nil, nil
}
