package adapter

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"
)

// Initialize opens the session.
func (c *Client) Initialize(ctx context.Context, p InitializeParams) (*Initialized, error) {
	p.Protocol, p.Newest = Version, Newest
	var r Initialized
	if err := c.call(ctx, "initialize", p, &r); err != nil {
		return nil, err
	}
	if err := r.check(); err != nil {
		return nil, c.wrong("%v", err)
	}
	c.name = r.Name
	return &r, nil
}

// SignIn signs in; the adapter asks what it needs to know.
func (c *Client) SignIn(ctx context.Context, user string) (string, error) {
	c.asking.Store(true)
	defer c.asking.Store(false)
	var r SignedIn
	if err := c.call(ctx, "signIn", SignInParams{user}, &r); err != nil {
		return "", err
	}
	c.User = cmp.Or(printable(r.User), user)
	return c.User, nil
}

// SignOut forgets who is signed in.
func (c *Client) SignOut(ctx context.Context) error {
	return c.call(ctx, "signOut", struct{}{}, &struct{}{})
}

// Unlock opens a channel; the adapter asks for the key.
func (c *Client) Unlock(ctx context.Context, channel string) error {
	c.asking.Store(true)
	defer c.asking.Store(false)
	return c.call(ctx, "unlock", UnlockParams{channel}, &struct{}{})
}

// patiently asks again where an adapter says to try later, or that somebody must sign in, and the player does.
func (c *Client) patiently(ctx context.Context, ask func() error) error {
	const longest = 2 * time.Minute
	waited := time.Duration(0)
	for {
		err := ask()
		if Is(err, CodeSignIn) && c.o.Offer && !c.offered.Swap(true) {
			if c.o.Meter != nil {
				c.o.Meter.Warn(fmt.Sprintf("%v; to go on, sign in", err))
			}
			if _, err := c.SignIn(ctx, ""); err != nil {
				return err
			}
			continue
		}
		if !Is(err, CodeLater) || ctx.Err() != nil {
			return err
		}
		pause := time.Second
		if e := answerOf(err); e.After > 0 {
			pause = e.After
		}
		if waited += pause; waited > longest {
			return err
		}
		if c.o.Meter != nil && pause >= time.Second {
			c.o.Meter.Warn(fmt.Sprintf("%v; trying again in %s", err, pause.Round(time.Second)))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// Done says that files of places have been read.
func (c *Client) Done(ctx context.Context, files []string) {
	_ = c.rpc.Notify(ctx, "done", Done{files}) // an adapter that is gone needs no telling
}

// Builds lists all builds of a channel, as the adapter orders them.
func (c *Client) Builds(ctx context.Context, channel string) ([]Build, error) {
	defer c.line.shownOver(c.o.Meter)
	var all []Build
	seen := make(map[string]bool)
	next := ""
	for page := 0; ; page++ {
		var r Builds
		err := c.patiently(ctx, func() error {
			r = Builds{}
			return c.call(ctx, "builds", BuildsParams{channel, next}, &r)
		})
		if err != nil {
			return nil, err
		}
		for i := range r.Builds {
			b := &r.Builds[i]
			if err := b.check(); err != nil {
				return nil, c.wrong("%v", err)
			}
			if seen[b.ID] {
				return nil, c.wrong("it lists the build %s twice", printable(b.ID))
			}
			seen[b.ID] = true
		}
		all = append(all, r.Builds...)
		if len(all) > maxBuilds {
			return nil, c.wrong("it lists more than %d builds in the channel %s", maxBuilds, channel)
		}
		if next, err = c.following("builds", next, r.Next, page); next == "" || err != nil {
			return all, err
		}
	}
}

// following checks what leads to the next page.
func (c *Client) following(method, was, next string, page int) (string, error) {
	switch {
	case next == "":
		return "", nil
	case len([]rune(next)) > maxID:
		return "", c.wrong("what leads to the next page of %s is longer than %d characters", method, maxID)
	case next == was || page >= maxPages:
		return "", c.wrong("the pages of %s do not end", method)
	}
	return next, nil
}

// Manifest reads a manifest whole.
func (c *Client) Manifest(ctx context.Context, build, component, id string) (*Manifest, error) {
	defer c.line.shownOver(c.o.Meter)
	var all Manifest
	entries, pieces := 0, 0
	next := ""
	for page := 0; ; page++ {
		var r Manifest
		err := c.patiently(ctx, func() error {
			r = Manifest{}
			return c.call(ctx, "manifest", ManifestParams{build, component, id, next}, &r)
		})
		if err != nil {
			return nil, err
		}
		for i := range r.Files {
			if err := r.Files[i].check(); err != nil {
				return nil, c.wrong("%v", err)
			}
			pieces += len(r.Files[i].Pieces)
		}
		if entries += len(r.Files) + len(r.Links) + len(r.Folders); entries > 4<<20 || pieces > maxPieces {
			return nil, c.wrong("the manifest %s lists %d files in %d pieces", printable(id), entries, pieces)
		}
		all.Files = append(all.Files, r.Files...)
		all.Links = append(all.Links, r.Links...)
		all.Folders = append(all.Folders, r.Folders...)
		if next, err = c.following("manifest", next, r.Next, page); err != nil {
			return nil, err
		}
		if next == "" {
			break
		}
	}
	if _, err := all.Tree(Teller{Of: id}); err != nil {
		return nil, c.wrong("the manifest %s: %v", printable(id), err)
	}
	return &all, nil
}

// Content asks where pieces are. strong reports whether all of the bytes of a wanted file are held against strong
// digests. until is when the answer is worth nothing any more; zero: never.
func (c *Client) Content(ctx context.Context, p ContentParams, strong func(path string) bool) (places []Place, until time.Time, err error) {
	wanted := make(map[string]map[int]bool)
	whole := make(map[string]bool)
	for _, w := range p.Want {
		if wanted[w.Path] == nil {
			wanted[w.Path] = make(map[int]bool)
		}
		for _, i := range w.Pieces {
			wanted[w.Path][i] = true
		}
		whole[w.Path] = w.Pieces == nil
	}
	var r Content
	err = c.patiently(ctx, func() error {
		r = Content{}
		return c.call(ctx, "content", p, &r)
	})
	if err != nil {
		return nil, until, err
	}
	for i := range r.Places {
		at := &r.Places[i]
		if set, asked := wanted[at.Path]; !asked || at.Piece < 0 || !whole[at.Path] && !set[at.Piece] {
			return nil, until, c.wrong("it answers with a place of %s that was not asked for", printable(at.Path))
		}
		if err := at.check(strong(at.Path)); err != nil {
			return nil, until, c.wrong("%v", err)
		}
	}
	if r.Expires != "" {
		if until, err = time.Parse(time.RFC3339, r.Expires); err != nil {
			return nil, until, c.wrong("its places expire at \"%s\"; a time is written like 2031-08-05T17:00:00Z", printable(r.Expires))
		}
	}
	return r.Places, until, nil
}

// answerOf returns the error that the adapter answered with.
func answerOf(err error) *Error {
	e := &Error{}
	errors.As(err, &e)
	return e
}
