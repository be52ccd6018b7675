package layers

import (
	"time"

	"morvant/internal/plan"
)

// Times are times of last change that the player has set by hand.
type Times struct{ Of map[string]time.Time }

func (t *Times) Kind() Kind { return OfTimes }

func (t *Times) ID() string { return string(OfTimes) }

func (t *Times) Name() string { return "the times that you have set" }

func (t *Times) Lay(s *Sheet) error {
	s.times = make(map[string]time.Time)
	for path, at := range t.Of {
		if p := s.At(path); p.Wants() {
			a := s.attributes.Files[p.Path]
			a.MTime = at
			s.attributes.Files[p.Path], s.times[p.Path] = a, at
		}
	}
	return nil
}

func (t *Times) Lift(_ *Piece, is plan.Node, _ *Piece, _ *Sheet) Lifted { return Lifted{To: is} }
