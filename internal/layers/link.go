package layers

import "morvant/internal/plan"

// Links are the links that lead out of the folder, and where each leads.
type Links struct{ To map[string]string }

func (k *Links) Kind() Kind { return OfLinks }

func (k *Links) ID() string { return string(OfLinks) }

func (k *Links) Name() string { return "the links that lead out" }

func (k *Links) Lay(s *Sheet) error {
	s.attributes.Links = k.To
	return nil
}

// Lift leaves a link: whoever asks for one less says so.
func (k *Links) Lift(_ *Piece, is plan.Node, _ *Piece, _ *Sheet) Lifted { return Lifted{To: is} }
