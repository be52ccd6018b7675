package layers

import "morvant/internal/plan"

// LeftOut takes files out of the build.
type LeftOut struct{ Patterns []string }

func (o *LeftOut) Kind() Kind { return Out }

func (o *LeftOut) ID() string { return string(Out) }

func (o *LeftOut) Name() string { return "what is left out" }

func (o *LeftOut) Lay(s *Sheet) error {
	match := s.Rules.Set(o.Patterns)
	for _, f := range s.base.Files {
		if match.Match(f.Path) {
			s.put(f.Path, plan.Node{}, o)
			s.LeftOut = append(s.LeftOut, f)
		}
	}
	return nil
}

func (o *LeftOut) Lift(_ *Piece, is plan.Node, below *Piece, _ *Sheet) Lifted {
	if below.Wants() {
		return Lifted{To: below.Node}
	}
	return Lifted{To: is}
}
