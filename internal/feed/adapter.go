package feed

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/adapter"
	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/feed/listing"
	"morvant/internal/feed/secret"
	"morvant/internal/feed/told"
	"morvant/internal/manifest"
	"morvant/internal/volume"
)

// A feed by adapter is a feed like others: what the adapter tells is kept in the same files as a copy of Morvant's
// own feeds, unsigned, with a few members more. Manifests are kept as the adapter tells them, and read as manifests of
// Morvant's in which content that has not been seen here stands under digest.Unseen.

// ErrNotTold is returned for a manifest that the adapter has not told yet.
var ErrNotTold = errors.New("the adapter has not told it yet")

// SharedError says that two components of a build give the same path, so that they cannot be put together.
type SharedError struct{ Build, Path, A, B string }

func (e *SharedError) Error() string {
	return fmt.Sprintf("%s: the components %s and %s both give %s", e.Build, e.A, e.B, e.Path)
}

// Advice says what helps.
func (e *SharedError) Advice() string {
	return "Whoever writes the feed or the adapter has to leave it out of one of them; until then, pin one of the two components alone"
}

// ErrLocked is returned where a channel's key has not been given.
var ErrLocked = errors.New("the channel is locked")

// Spoken is a talk with the adapter of a feed.
type Spoken struct {
	*adapter.Client
	Said *adapter.Initialized

	feed *Feed
	o    Options
}

// LaterError says that a distributor asked for patience, and was given all that it gets.
type LaterError struct{ error }

func (e *LaterError) Unwrap() error { return e.error }

// Advice says what helps.
func (e *LaterError) Advice() string {
	return "Run the same command later; what has come so far is kept"
}

// own is the folder that belongs to the adapter.
func (f *Feed) own() string { return f.File("adapter") }

// Speak starts the adapter of the feed.
func (f *Feed) Speak(ctx context.Context, o Options) (*Spoken, error) {
	program, err := adapter.Find(f.Adapter, f.Programs)
	if err != nil {
		return nil, err
	}
	if err := volume.MkdirAll(f.own(), 0o700); err != nil {
		return nil, err
	}
	folder, err := filepath.Abs(f.own())
	if err != nil {
		return nil, err
	}
	c, err := adapter.Start(ctx, program, folder, adapter.Options{Silence: o.Silence, Ask: o.Ask, Offer: o.Offer, Secrets: f.secrets(), Meter: o.Meter, Log: o.Log, Watch: o.Watch, Self: o.Self})
	if err != nil {
		return nil, err
	}
	said, err := c.Initialize(ctx, adapter.InitializeParams{Version: cmp.Or(o.Version, "development"), Game: f.Game, Address: f.Addresses[0], Folder: folder, Language: "en", Limit: o.Limit})
	if err != nil {
		return nil, errors.Join(f.Meant(err), c.Close())
	}
	return &Spoken{c, said, f, o}, nil
}

// Meant gives an adapter's answers the errors that feeds have.
func (f *Feed) Meant(err error) error {
	var e *adapter.Error
	if !errors.As(err, &e) {
		return err
	}
	switch e.Code {
	case adapter.CodeSignIn:
		return fmt.Errorf("%w: %w", err, ErrSignIn)
	case adapter.CodeNotOwned:
		what := e.Message
		if len(e.Components) > 0 {
			what += ": " + strings.Join(e.Components, ", ")
		}
		return &DeniedError{what}
	case adapter.CodeLocked:
		return fmt.Errorf("%w: %w", err, ErrLocked)
	case adapter.CodeLater:
		return &LaterError{err} // it has been waited for
	}
	return err
}

// AddByAdapter adds a feed that an outside program speaks for.
func AddByAdapter(ctx context.Context, a Adding, program, programs, game string, o Options) (*Feed, error) {
	found, err := adapter.Find(program, programs)
	if err != nil {
		return nil, err
	}
	if strings.ContainsAny(program, `/\.`) || strings.HasPrefix(program, adapter.Recording) {
		program = found // a path is kept whole
	}
	// The adapter runs in a folder of its own: what is a path from here must be one from there.
	for i, address := range a.Addresses {
		if _, err := os.Stat(address); err == nil {
			if a.Addresses[i], err = filepath.Abs(address); err != nil {
				return nil, err
			}
		}
	}
	if err := volume.MkdirAll(a.Base, 0o755); err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp(a.Base, ".adding-*")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	f := &Feed{dir: dir, Programs: programs, Subscription: Subscription{Addresses: a.Addresses, Adapter: program, Game: game, Added: o.Now()}}
	if err := f.speaking(ctx, o, func(s *Spoken) error { return s.list(ctx) }); err != nil {
		return nil, err
	}
	d, err := f.Described()
	if err != nil {
		return nil, err
	}
	if err := f.settle(a, d.Name); err != nil { // it exists now, whatever becomes of the rest
		return nil, err
	}
	if f.worth(o) == nil {
		return f, nil
	}
	return f, f.speaking(ctx, o, func(s *Spoken) error { return s.readWorth(ctx) })
}

// speaking starts the adapter for a talk.
func (f *Feed) speaking(ctx context.Context, o Options, talk func(*Spoken) error) error {
	s, err := f.Speak(ctx, o)
	if err != nil {
		return err
	}
	return errors.Join(talk(s), s.Close())
}

// refresh asks what is new, and keeps it.
func (s *Spoken) refresh(ctx context.Context) error {
	if err := s.list(ctx); err != nil {
		return err
	}
	return s.readWorth(ctx)
}

// list keeps what the adapter lists.
func (s *Spoken) list(ctx context.Context) error {
	f, o := s.feed, s.o
	d := &catalogue.Feed{Format: catalogue.FeedFormat, Name: s.Said.Name, Game: f.Game, Serial: 1, Made: o.Now(), Expires: o.Now().AddDate(100, 0, 0), Components: []catalogue.Component{}}
	if s.Said.SignIn != adapter.SignInNone {
		d.SignIn = &catalogue.SignIn{}
	}
	titles := make(map[string]catalogue.Component)
	if was, err := f.Described(); err == nil {
		if was.Name != d.Name {
			return fmt.Errorf("%w: its adapter calls itself %s now, and was %s", ErrHostile, d.Name, was.Name)
		}
		for _, c := range was.Components { // channels that are not told this time have them
			titles[c.Name] = c
		}
	}
	var channels []*catalogue.Channel
	var locked []string
	var asked error
	known := s.filled()
	for _, line := range s.Said.Channels {
		d.Channels = append(d.Channels, catalogue.Line{Name: line.Name, Locked: line.Locked})
		builds, err := s.Builds(ctx, line.Name)
		switch {
		case adapter.Is(err, adapter.CodeSignIn):
			asked = f.Meant(err)
			continue // what is known stays
		case adapter.Is(err, adapter.CodeLocked), adapter.Is(err, adapter.CodeNotOwned):
			locked = append(locked, line.Name)
			if err := volume.RemoveFile(f.File(catalogue.ChannelFile(line.Name))); err != nil {
				return err
			}
			continue
		case err != nil:
			return f.Meant(err)
		}
		channels = append(channels, listing.Channel(s.listed(line.Name), d.Name, line.Name, builds, titles, o.Now()))
	}
	for _, name := range slices.Sorted(maps.Keys(titles)) {
		d.Components = append(d.Components, titles[name])
	}
	for _, c := range channels {
		s.fillIn(c, known)
		if err := s.keepChannel(c); err != nil {
			return fmt.Errorf("the adapter %s: %w", s.Name(), err)
		}
	}
	b, err := d.Encode()
	if err != nil {
		return err
	}
	if err := f.Put(catalogue.FeedFile, b); err != nil {
		return err
	}
	f.Locked, f.Refreshed, f.User, f.Dear = locked, o.Now(), cmp.Or(s.User, s.Said.User), s.Said.Dear
	if err := f.save(); err != nil {
		return err
	}
	if asked != nil && len(channels) == 0 && f.Name != "" {
		return asked
	}
	return nil
}

// listed returns the builds of a channel of the copy, by their ids.
func (s *Spoken) listed(name string) map[string]catalogue.Build {
	known := make(map[string]catalogue.Build)
	if b, err := volume.ReadFile(s.feed.File(catalogue.ChannelFile(name)), catalogue.MaxSigned); err == nil {
		if was, err := catalogue.DecodeChannel(b); err == nil {
			for _, b := range was.Builds {
				known[b.ID] = b
			}
		}
	}
	return known
}

// Scope names the subscription: what its distributor tells by weak digests, or by none, counts in it alone. Once it is
// distrusted it is another one.
func (f *Feed) Scope() string {
	return fmt.Sprintf("%s\n%s\n%d\n%d", f.Game, f.Adapter, f.Added.UnixNano(), f.Distrusted)
}

func toldFile(d digest.Digest) string { return "told/" + d.String() + ".json.zst" }

// ToldCount counts the manifests of the copy.
func (f *Feed) ToldCount() int { return len(f.toldSet()) }

// Told returns a manifest of the copy as it was told.
func (f *Feed) Told(d digest.Digest) (*told.Manifest, error) {
	if t := f.told.Get(d, f.Scope()); t != nil {
		return t, nil
	}
	packed, err := volume.ReadFile(f.File(toldFile(d)), catalogue.MaxPacked)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("manifest %s of the feed %s: %w", d.Short(), f.Name, ErrNotTold)
	}
	if err != nil {
		return nil, err
	}
	t, err := told.Decode(packed, f.Scope(), f.Distrusted > 0)
	if err != nil {
		_ = os.Remove(f.File(toldFile(d)))
		return nil, fmt.Errorf("manifest %s of the feed %s: %w: %w", d.Short(), f.Name, ErrCopy, err)
	}
	f.told.Keep(d, t)
	return t, nil
}

// Shared returns a SharedError if two components of a build of an adapter's give the same path.
func (f *Feed) Shared(b catalogue.Build) error {
	if len(b.Components) < 2 {
		return nil
	}
	var list []*manifest.Manifest
	var of []catalogue.Part
	for _, p := range b.Components {
		if t, err := f.Told(p.Manifest); err == nil {
			list, of = append(list, t.Tree), append(of, p)
		}
	}
	if path, i, j, found := manifest.Shared(list...); found {
		return &SharedError{b.Label, path, of[i].Name, of[j].Name}
	}
	return nil
}

// Relist takes anew what the adapter lists, in a talk that is under way.
func (s *Spoken) Relist(ctx context.Context) error {
	return s.feed.again(ctx, func() error { return s.list(ctx) })
}

func (f *Feed) again(ctx context.Context, do func() error) error {
	l, err := f.alone(ctx)
	if err != nil {
		return err
	}
	defer l.Close()
	return do()
}

// SignInByAdapter lets the adapter sign in, which asks what it needs to know, and reads what there is for who has.
// user may be empty.
func (f *Feed) SignInByAdapter(ctx context.Context, user string, o Options) (string, error) {
	err := f.withSecrets(ctx, o, func(s *Spoken) error {
		_, err := s.Client.SignIn(ctx, user)
		return err
	})
	return f.User, err
}

// UnlockByAdapter lets the adapter open a channel, and reads it.
func (f *Feed) UnlockByAdapter(ctx context.Context, channel string, o Options) error {
	return f.withSecrets(ctx, o, func(s *Spoken) error { return s.Client.Unlock(ctx, channel) })
}

// withSecrets lets the adapter ask for secrets, up to three times if they are wrong, and reads anew what there is.
func (f *Feed) withSecrets(ctx context.Context, o Options, give func(*Spoken) error) error {
	const tries = 3
	s, err := f.Speak(ctx, o)
	if err != nil {
		return err
	}
	defer s.Close()
	for try := 1; ; try++ {
		err := give(s)
		switch {
		case err == nil:
			return f.again(ctx, func() error { return s.refresh(ctx) })
		case !adapter.Is(err, adapter.CodeWrong) || try == tries:
			return f.Meant(err)
		}
		o.Meter.Warn(fmt.Sprintf("%v; try again", err))
	}
}

func (f *Feed) signOutByAdapter(ctx context.Context, o Options) error {
	s, err := f.Speak(ctx, o)
	if err == nil {
		err = errors.Join(f.Meant(s.Client.SignOut(ctx)), s.Close())
	}
	return errors.Join(err, f.again(ctx, func() error {
		f.User = ""
		return errors.Join(f.secrets().Forget(), f.save())
	}))
}

func (f *Feed) secrets() *secret.Several {
	return secret.Of(f.dir+" ", f.File("secrets.json"), strings.HasPrefix(filepath.Base(f.dir), "."))
}
