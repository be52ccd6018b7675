package layers

import "morvant/internal/plan"

// yours is what the player has put there, beneath a layer that is named on purpose.
type yours struct{}

func (yours) Kind() Kind { return OfPlayer }

func (yours) ID() string { return string(OfPlayer) }

func (yours) Name() string { return "you" }

func (yours) Lay(*Sheet) error { return nil }

func (yours) Lift(_ *Piece, is plan.Node, _ *Piece, _ *Sheet) Lifted { return Lifted{To: is} }
