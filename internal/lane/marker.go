package lane

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/pelletier/go-toml/v2"

	"morvant/internal/apply"
	"morvant/internal/manifest"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// LaneAt returns the game and the lane that a folder's marker names; empty if it has
// none.
func LaneAt(dir string) (game, lane string) {
	id := MarkerOf(dir)
	return id.Game, id.Lane
}

const MarkerFile = manifest.PrivateDir + "/lane.toml"

// Marker is what the file in a lane's folder says.
type Marker struct {
	Game       string    `toml:"game"`
	Lane       string    `toml:"lane"`
	Build      string    `toml:"build,omitempty"`
	State      string    `toml:"state"` // "held", "following", "free"
	Since      time.Time `toml:"since,omitempty"`
	Unfinished bool      `toml:"unfinished,omitempty"`
	// The home that wrote it, where it was, and how old its state was.
	state.Age
	HomeAt string `toml:"home_at,omitempty"`
}

const markerHead = "# Written by Morvant: tells which install this folder is. Please leave it as it is.\n"

// WriteMarker writes the marker that tells a person which copy they are looking at.
func (l *Lane) WriteMarker(ctx context.Context) error { return l.WriteMarkerAs(ctx, false) }

// WriteMarkerAs writes the marker; unfinished says that a change of the folder is under way.
func (l *Lane) WriteMarkerAs(ctx context.Context, unfinished bool) error {
	if l.Root == nil { // the folder is away; the state knows what it is
		return nil
	}
	pin, b, err := l.Pin(ctx)
	if err != nil && !errors.Is(err, state.ErrUnknown) {
		return err
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	m := Marker{Game: l.Game.Name, Lane: l.Name, State: "free", Unfinished: unfinished, HomeAt: l.Home.Dir()}
	if m.Age, err = l.Home.Sign(ctx); err != nil {
		return err
	}
	if is.Follows {
		m.State = "following"
	}
	if pin.Held() && b != nil {
		m.State, m.Build, m.Since = "held", b.Label, pin.Since
	}
	return m.write(l.Root)
}

func (m Marker) write(root *os.Root) error {
	body, err := toml.Marshal(m)
	if err != nil {
		return err
	}
	if _, err := apply.MakeRoom(root); err != nil {
		return err
	}
	if err = root.Mkdir(manifest.PrivateDir, 0o755); err == nil {
		err = volume.OwnIn(root, manifest.PrivateDir, ".")
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return volume.ReplaceIn(root, MarkerFile, append([]byte(markerHead), body...), 0o644)
}

// Identity is what a marker says that a folder is.
type Identity struct{ Game, Lane string }

// MarkerOf says what the marker of a folder makes it; the zero value if there is none.
func MarkerOf(dir string) Identity {
	m := ReadMarker(dir)
	return Identity{Game: m.Game, Lane: m.Lane}
}

// ReadMarker reads the marker of a folder; the zero value if there is none that can be read.
func ReadMarker(dir string) (m Marker) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return Marker{}
	}
	defer root.Close()
	b, err := volume.ReadIn(root, MarkerFile, volume.Small)
	if err != nil || toml.Unmarshal(b, &m) != nil {
		return Marker{}
	}
	return m
}

// BrokenMarker reports whether a folder has a marker that says nothing, as a power cut
// may leave it.
func BrokenMarker(dir string) bool {
	info, err := os.Lstat(filepath.Join(dir, filepath.FromSlash(MarkerFile)))
	return err == nil && info.Mode().IsRegular() && MarkerOf(dir) == Identity{}
}

func WriteMarker(dir string, m Marker) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	return errors.Join(m.write(root), root.Close())
}
