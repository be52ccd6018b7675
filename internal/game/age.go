package game

import (
	"context"
	"path/filepath"

	"github.com/pelletier/go-toml/v2"

	"morvant/internal/state"
	"morvant/internal/volume"
)

// witnessFile says in the store how old the state was when it was last written beside it.
const witnessFile = "age.toml"

// witnessOf reads it; the zero value where there is none that can be read.
func witnessOf(h *Home) (a state.Age) {
	b, err := volume.ReadFile(filepath.Join(h.StoreDir(), witnessFile), volume.Small)
	if err != nil || toml.Unmarshal(b, &a) != nil {
		return state.Age{}
	}
	return a
}

// compareAge finds out whether the state is older than the store beside it, as when a backup of it has been put back. The
// store's age was read before the state was opened: others may work here at the same time.
func compareAge(ctx context.Context, h *Home, store state.Age) error {
	is, err := h.Age(ctx)
	if err != nil {
		return err
	}
	h.began = is
	older := store.Home != is.Home && store.Home != ""
	if store.Home == is.Home && store != is {
		if older, err = h.Lost(ctx, store); err != nil {
			return err
		}
	}
	if older {
		h.Older = &store
	}
	return nil
}

// writeWitness notes beside the packs how old the state is by now. It is a help only: where it cannot be written, nothing fails.
func writeWitness(h *Home) {
	ctx := context.Background()
	is, err := h.Age(ctx)
	if err != nil || h.Older != nil || !h.hasPacks() {
		return
	}
	was := witnessOf(h)
	if lost, err := h.Lost(ctx, was); err != nil || is == h.began && was.Home == is.Home && !lost {
		return // nothing has changed
	}
	if is, err = h.Sign(ctx); err != nil {
		return
	}
	if b, err := toml.Marshal(is); err == nil {
		_ = volume.Replace(filepath.Join(h.StoreDir(), witnessFile), b, 0o600)
	}
}
