package lane

import (
	"context"
	"errors"
	"fmt"
	"os"

	"morvant/internal/apply"
	"morvant/internal/game"
	"morvant/internal/plan"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// Errors of a folder that is not as it is remembered.
var (
	// ErrAway is returned for a folder on a disk that is not there.
	ErrAway = errors.New("its disk is not there")
	// ErrStranger is returned for a folder that stands in a lane's place and may be
	// another one.
	ErrStranger = errors.New("this may not be the game's folder")
)

// GoneError says that a lane's folder is gone as a whole, while its disk is there.
type GoneError struct {
	Game *game.Game
	Lane string
	Dir  string
	// Found is where its marker tells that it is now; empty if it was not found.
	Found string
	// Empty says that the folder is there, with nothing in it.
	Empty bool
	// Own is the newest snapshot that has files of the player's own, and OwnFiles how
	// many these are; nil if there is none.
	Own      *state.Build
	OwnFiles int
}

func (e *GoneError) Error() string {
	if e.Found != "" {
		return fmt.Sprintf("%s: %v; by its marker it is now at %s", e.Dir, ErrGone, e.Found)
	}
	return fmt.Sprintf("%s: %v", e.Dir, ErrGone)
}

func (e *GoneError) Unwrap() error { return ErrGone }

// OpenFolder opens the folder of a lane.
func (l *Lane) OpenFolder(dir string) (*os.Root, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return apply.Enter(root, func(text string) { l.Tell("%s.", text) })
}

// Stranger says why the folder may not be the lane's; empty if it is.
func (l *Lane) Stranger() string { return l.Strange }

// Accept takes the folder for the lane's, as the player says.
func (l *Lane) Accept(ctx context.Context) error {
	l.Strange = ""
	return l.WriteMarkerAs(ctx, false)
}

// Traits tries once what the lane's disk can hold. Where it cannot be tried, nothing is
// known to be missing.
func (l *Lane) Traits() volume.Traits {
	if l.Tried == nil {
		game.SweepProbes(l.Dir) // of a run that was killed
		t, _ := volume.TraitsOf(l.Dir)
		l.Tried = &t
	}
	return *l.Tried
}

// CanHold returns an error if a plan puts something into the folder that its disk cannot
// hold.
func (l *Lane) CanHold(p *plan.Plan) error {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", ErrCannotHold, fmt.Sprintf(format, args...))
	}
	for i := range p.Steps {
		s := &p.Steps[i]
		if !s.Places() {
			continue
		}
		switch {
		case s.After.Kind == plan.Link && l.Traits().NoLinks:
			return bad("it cannot hold links, and %s is one", s.Path)
		case s.After.Size >= largeFile && l.Traits().MaxFile > 0 && s.After.Size > l.Traits().MaxFile:
			return bad("%s is larger than the %d GB that a file may have there", s.Path, (l.Traits().MaxFile+1)>>30)
		}
	}
	return nil
}

// largeFile is from which size on a file may be too large for some disk, in bytes.
const largeFile = 2 << 30

// ErrCannotHold is returned for a build that the lane's disk cannot hold.
var ErrCannotHold = errors.New("the disk of this folder cannot hold the build")
