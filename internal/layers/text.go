package layers

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"morvant/internal/edit"
	"morvant/internal/plan"
)

// Companion is a small file that a build needs beside it.
type Companion struct{ Path, Text string }

func (c *Companion) Kind() Kind { return OfPin }

func (c *Companion) ID() string { return string(OfPin) + " " + c.Path }

func (c *Companion) Name() string { return "the companion " + c.Path }

func (c *Companion) Lay(s *Sheet) error {
	s.put(c.Path, s.Bring([]byte(c.Text)), c)
	return nil
}

// Lift takes the file away. One that the player has changed stays.
func (c *Companion) Lift(p *Piece, is plan.Node, below *Piece, _ *Sheet) Lifted {
	switch {
	case is.Kind != "" && !is.SameContent(p.Node) && !(below.Wants() && is.SameContent(below.Node)):
		return Lifted{To: is, Stays: true, Why: fmt.Sprintf("the companion %s has been changed by hand; it stays", p.Path)}
	case p.own() != nil:
		return Lifted{To: p.own().Node, Once: true}
	case below.Wants():
		return Lifted{To: below.Node}
	}
	return Lifted{Once: true}
}

// Edit is a value that a text file must have.
type Edit struct {
	File, Find, Set string
	// Was is the value that it replaces in a file of the player's; nil: the file is the build's.
	Was *string
}

// ErrEdit is returned for an edit that cannot be made.
var ErrEdit = errors.New("not an edit that can be made")

func (e *Edit) Kind() Kind { return OfEdit }

func (e *Edit) ID() string { return string(OfEdit) + " " + e.File + " " + e.Find }

func (e *Edit) Name() string { return fmt.Sprintf("the edit of %s that sets \"%s\"", e.File, e.Set) }

// Lay sets the value in what is wanted at the path, or in the player's own file where it is theirs.
func (e *Edit) Lay(s *Sheet) error {
	below := s.At(e.File)
	own := !below.Wants() || s.Kept(e.File) || below.editsPlayers()
	content, err := e.content(s, below, own)
	if own && errors.Is(err, fs.ErrNotExist) {
		s.note("%s is not there yet; a repair sets the value once it is", e.File)
		return nil
	}
	if err != nil {
		return fmt.Errorf("%w: %s: %w", ErrEdit, e.File, err)
	}
	d := edit.Parse(content)
	v, err := d.Find(context.Background(), e.Find, 1)
	if err != nil && own && !s.Fresh {
		s.note("%s no longer has the line that the pin edits", e.File)
		return nil
	}
	if err != nil {
		return fmt.Errorf("%w: %s: %w", ErrEdit, e.File, err)
	}
	if own && s.Fresh && e.Was == nil {
		e.Was = &v.Texts[0]
	}
	if p := s.put(e.File, s.Bring(d.With(v, []string{e.Set})), e); own && !below.editsPlayers() {
		p.Under = &Piece{Path: p.Path, Node: node(content), Layer: yours{}, Under: below}
	}
	return nil
}

// content is what the value is set in.
func (e *Edit) content(s *Sheet, below *Piece, own bool) ([]byte, error) {
	var text []byte
	if below.Wants() && (!own || below.editsPlayers()) {
		text = s.Texts[below.Node.Digest] // by another layer
	}
	switch {
	case text != nil:
		return text, nil
	case own:
		return s.Own(s.spelling.Of(e.File))
	}
	return s.Content(below.Path, below.Node)
}

// Lift sets the value back, in what is there where that is the player's. What they have set to something else since, and a
// file of the build that they have changed, stays.
func (e *Edit) Lift(p *Piece, is plan.Node, below *Piece, s *Sheet) Lifted {
	own := p.editsPlayers()
	stays := Lifted{To: is, Stays: !own, Why: fmt.Sprintf("%s has been changed since the pin set \"%s\" in it; that stays", p.Path, e.Set)}
	switch {
	case is.Kind == "":
		return Lifted{}
	case own && e.Was == nil:
		return Lifted{To: is}
	case !own && is.SameContent(p.Node) && !below.Wants():
		return Lifted{Once: true}
	case !own && below.Wants() && (is.SameContent(p.Node) || is.SameContent(below.Node)):
		return Lifted{To: below.Node}
	case !own:
		return stays
	}
	now, err := e.content(s, below, true)
	if err != nil {
		return stays
	}
	d := edit.Parse(now)
	v, err := d.Find(context.Background(), e.Find, 1)
	if err != nil || v.Texts[0] != e.Set {
		return stays
	}
	return Lifted{To: s.Bring(d.With(v, []string{*e.Was})), Once: true}
}
