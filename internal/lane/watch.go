package lane

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"morvant/internal/block"
	"morvant/internal/game"
)

// Event is what a watch has seen, once it has become quiet again.
type Event struct {
	Time   time.Time
	Status *Status
	// Before is how the lane stood at the last event; nil at the first.
	Before *Status
}

// Watch says how a lane is watched.
type Watch struct {
	Quiet time.Duration // how long nothing must happen until it is looked at
	Every time.Duration // a look in any case, for what no event tells
	Once  bool          // look once, and return
	// See is told of each change of how the lane stands, and of the first look. It
	// runs while the lane is open, and says whether it has changed it.
	See func(ctx context.Context, l *Lane, e Event) (changed bool, err error)
	// Limit is told if the system cannot watch everything, and what helps.
	Limit func(problem string)
}

// Run watches until ctx is done. The game's lock is held only while it looks.
func (w *Watch) Run(ctx context.Context, home *game.Home, name string, o Options) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	is, err := home.Lane(ctx, name, o.Lane)
	if err != nil {
		return err
	}
	dir := g.Folder(is)
	news := &news{}
	if !w.Once {
		news = newsOf(g, dir, w.Limit)
		defer news.close()
	}
	// Looked at once it is watched, so that nothing is missed in between.
	before, err := w.look(ctx, home, name, o, nil)
	if err != nil || w.Once {
		return err
	}
	quiet := time.NewTimer(w.Every)
	defer quiet.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-news.come:
			if err != nil {
				w.Limit(limitAdvice(err))
			}
			quiet.Reset(w.Quiet)
		case <-quiet.C:
			now, err := w.look(ctx, home, name, o, before)
			switch {
			case ctx.Err() != nil:
				return nil
			case errors.Is(err, game.ErrBusy):
				// Another command is at work; its changes are looked at later.
			case err != nil:
				return err
			default:
				before = now
			}
			quiet.Reset(w.Every)
		}
	}
}

// look opens the lane, and tells See if it stands otherwise than before.
func (w *Watch) look(ctx context.Context, home *game.Home, name string, o Options, before *Status) (*Status, error) {
	l, err := Open(ctx, home, name, o)
	if err != nil {
		return nil, err
	}
	s, err := l.Status(ctx)
	if err == nil && (before == nil || sketch(before) != sketch(s)) {
		var mended bool
		mended, err = w.See(ctx, l, Event{Time: o.Now(), Status: s, Before: before})
		if err == nil && mended {
			// What was mended is no news; what has changed meanwhile is.
			if now, statusErr := l.Status(ctx); statusErr == nil && !now.Trouble() {
				s = now
			}
		}
	}
	return s, errors.Join(err, l.Close())
}

// Trouble reports whether the lane has drifted or its block is broken.
func (s *Status) Trouble() bool {
	return s.Drift != nil && s.Drift.Any() || slices.ContainsFunc(s.Block, func(b block.State) bool { return !b.Holds })
}

// sketch sums up how a lane stands, to be compared.
func sketch(s *Status) string {
	text := fmt.Sprintf("%v %d %d", s.Pin, s.Files, s.Bytes)
	if d := s.Drift; d != nil {
		text += fmt.Sprintf(" %v %v %v %v", d.Altered, d.Missing, d.Extra, d.Unread)
	}
	for _, b := range s.Block {
		text += fmt.Sprintf(" %v %s", b.Holds, b.Broke)
	}
	return text
}
