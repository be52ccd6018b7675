package feed

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/volume"
)

// Refresh asks the feed what is new and brings its catalogue here. What cannot be
// trusted changes nothing.
func (f *Feed) Refresh(ctx context.Context, o Options) error {
	if f.Broken != nil {
		return f.Broken
	}
	l, err := f.alone(ctx)
	if err != nil {
		return err
	}
	defer l.Close()
	if f.Adapter != "" {
		return f.speaking(ctx, o, func(s *Spoken) error { return s.refresh(ctx) })
	}
	w, sources, err := f.Connect(o)
	if err != nil {
		return err
	}
	defer w.Close()
	return (&refresh{feed: f, wire: w, sources: sources}).run(ctx)
}

// refresh is one run of Refresh.
type refresh struct {
	feed       *Feed
	wire       *Wire
	sources    []Source
	described  *catalogue.Feed
	fresh      map[string][]byte // signed files to be kept
	validators map[string]validators
	serials    map[string]int64
}

func (r *refresh) run(ctx context.Context) error {
	r.fresh, r.validators = make(map[string][]byte), make(map[string]validators)
	r.serials = maps.Clone(r.feed.Serials)
	if r.serials == nil {
		r.serials = make(map[string]int64)
	}
	body, err := r.signed(ctx, catalogue.FeedFile, r.checkFeed)
	if err != nil {
		return err
	}
	if r.described, err = catalogue.DecodeFeed(body); err != nil {
		return err
	}
	var channels []*catalogue.Channel
	var locked []string
	for _, line := range r.described.Channels {
		c, err := r.channel(ctx, line)
		var denied *DeniedError
		switch {
		case line.Locked && (errors.Is(err, ErrSignIn) || errors.Is(err, ErrMissing) || errors.As(err, &denied)):
			locked = append(locked, line.Name)
		case err != nil:
			return fmt.Errorf("channel %s: %w", line.Name, err)
		default:
			channels = append(channels, c)
		}
	}
	if err := r.manifests(ctx, channels); err != nil {
		return err
	}
	return r.keep(locked)
}

// keep writes down what was read, the description of the feed last: it names the rest.
func (r *refresh) keep(locked []string) error {
	f := r.feed
	for path, body := range r.fresh {
		if path != catalogue.FeedFile {
			if err := f.Put(path, body); err != nil {
				return err
			}
		}
	}
	if body, ok := r.fresh[catalogue.FeedFile]; ok {
		if err := f.Put(catalogue.FeedFile, body); err != nil {
			return err
		}
	}
	for _, name := range locked {
		if err := volume.RemoveFile(f.File(catalogue.ChannelFile(name))); err != nil {
			return err
		}
		delete(r.validators, catalogue.ChannelFile(name))
	}
	f.Marks, f.Locked, f.Refreshed, f.Serials = r.validators, locked, r.wire.now(), r.serials
	if f.Key == "" {
		f.Key = r.described.Key
	}
	return f.save()
}

// pairTries is how often file and signature are read until they belong together:
// a feed that is being published changes one after the other.
const pairTries = 3

// signed reads a signed file, or the known one if it has not changed. check tells
// whether its content can be accepted.
func (r *refresh) signed(ctx context.Context, path string, check func(body, known []byte) error) ([]byte, error) {
	known, err := volume.ReadFile(r.feed.File(path), catalogue.MaxSigned)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	was := r.feed.Marks[path]
	if known != nil && !decodes(path, known) {
		known = nil // a damaged copy counts for nothing; the serial number is kept apart
	}
	if known == nil {
		was = validators{}
	}
	var body []byte
	err = r.wire.Attempt(ctx, r.sources, noProgress, func(s Source) error {
		// What one server calls a version says nothing about another's.
		if s != r.sources[0] {
			was = validators{}
		}
		var m validators
		var err error
		for try := range pairTries {
			if try > 0 {
				if err := sleep(ctx, firstPause); err != nil {
					return err
				}
			}
			if body, m, err = s.get(ctx, path, catalogue.MaxSigned, was); err != nil {
				break
			}
			if err = r.verify(ctx, s, path, body, known, check); !errors.Is(err, catalogue.ErrSignature) {
				break
			}
			was = validators{}
		}
		if errors.Is(err, errUnchanged) {
			body = known
			r.validators[path] = was
			return check(known, known)
		}
		if err == nil && s == r.sources[0] {
			r.validators[path] = m
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	r.fresh[path] = body
	return body, nil
}

// decodes reports whether a signed file of the copy can be read.
func decodes(path string, body []byte) bool {
	var err error
	if path == catalogue.FeedFile {
		_, err = catalogue.DecodeFeed(body)
	} else {
		_, err = catalogue.DecodeChannel(body)
	}
	return err == nil
}

// maxSignature bounds a signature file, in bytes.
const maxSignature = 4 << 10

func (r *refresh) verify(ctx context.Context, s Source, path string, body, known []byte, check func(body, known []byte) error) error {
	signature, _, err := s.get(ctx, catalogue.SignatureOf(path), maxSignature, validators{})
	if errors.Is(err, ErrMissing) {
		return fmt.Errorf("%s has no signature: %w", path, catalogue.ErrSignature)
	}
	if err != nil {
		return err
	}
	key, err := r.key(body)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if err := catalogue.Verify(key, body, signature); err != nil {
		if f, decodeErr := catalogue.DecodeFeed(body); decodeErr == nil && f.Key != catalogue.KeyText(key) {
			return fmt.Errorf("it shows the key %s, and %s was expected: %w", f.Key, catalogue.KeyText(key), ErrKey)
		}
		return fmt.Errorf("%s: %w", path, err)
	}
	if err := check(body, known); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

// key returns the key that must have signed: the one kept or demanded, at the
// first time the one that the feed shows.
func (r *refresh) key(body []byte) (catalogue.PublicKey, error) {
	switch {
	case r.feed.Key != "":
		return catalogue.ParseKey(r.feed.Key)
	case r.described != nil:
		return catalogue.ParseKey(r.described.Key)
	}
	f, err := catalogue.DecodeFeed(body)
	if err != nil {
		return catalogue.PublicKey{}, err
	}
	return catalogue.ParseKey(f.Key)
}

func (r *refresh) checkFeed(body, known []byte) error {
	f, err := catalogue.DecodeFeed(body)
	if err != nil {
		return err
	}
	if known != nil {
		was, err := catalogue.DecodeFeed(known)
		if err != nil {
			return err
		}
		if was.Name != f.Name {
			return fmt.Errorf("%w: it is called %s now, and was %s", ErrHostile, f.Name, was.Name)
		}
		r.serials[catalogue.FeedFile] = max(r.serials[catalogue.FeedFile], was.Serial)
	}
	return r.checkAge(catalogue.FeedFile, f.Serial, f.Expires, body, known)
}

// checkAge refuses a catalogue that is older than the one known, or expired.
func (r *refresh) checkAge(path string, serial int64, expires time.Time, body, known []byte) error {
	was := r.serials[path]
	switch {
	case serial < was:
		return fmt.Errorf("serial number %d after %d: %w", serial, was, ErrRollback)
	case serial == was && known != nil && string(body) != string(known):
		return fmt.Errorf("two with the serial number %d: %w", serial, ErrRollback)
	case !expires.After(r.wire.now()):
		return fmt.Errorf("%w on %s", ErrExpired, expires.Format(time.DateOnly))
	}
	r.serials[path] = serial
	return nil
}

func (r *refresh) channel(ctx context.Context, line catalogue.Line) (*catalogue.Channel, error) {
	body, err := r.signed(ctx, catalogue.ChannelFile(line.Name), func(body, known []byte) error {
		c, err := catalogue.DecodeChannel(body)
		if err != nil {
			return err
		}
		if err := c.Published(); err != nil {
			return err
		}
		if c.Feed != r.described.Name || c.Channel != line.Name {
			return fmt.Errorf("%w: channel %s of %s in its place", ErrHostile, c.Channel, c.Feed)
		}
		path := catalogue.ChannelFile(line.Name)
		if known != nil {
			if was, err := catalogue.DecodeChannel(known); err == nil {
				r.serials[path] = max(r.serials[path], was.Serial)
			}
		}
		return r.checkAge(path, c.Serial, c.Expires, body, known)
	})
	if err != nil {
		return nil, err
	}
	return catalogue.DecodeChannel(body)
}

// manifests brings the manifests here that are not yet.
func (r *refresh) manifests(ctx context.Context, channels []*catalogue.Channel) error {
	var missing []digest.Digest
	listed := make(map[digest.Digest]bool)
	for _, c := range channels {
		for _, b := range c.Builds {
			for _, p := range b.Components {
				if listed[p.Manifest] {
					continue
				}
				listed[p.Manifest] = true
				if _, err := os.Stat(r.feed.File(catalogue.ManifestFile(p.Manifest))); err != nil {
					missing = append(missing, p.Manifest)
				}
			}
		}
	}
	if len(missing) == 0 {
		return nil
	}
	r.wire.meter.Begin("Reading manifests", -1)
	defer r.wire.meter.End()
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(Connections)
	var mu sync.Mutex
	for _, d := range missing {
		g.Go(func() error {
			packed, err := GetNamed(ctx, r.wire, r.sources, catalogue.ManifestFile(d), func(packed []byte) error {
				_, err := decodeManifest(packed, d)
				return err
			})
			if err != nil {
				return err
			}
			r.wire.meter.Advance(int64(len(packed)), "")
			mu.Lock()
			defer mu.Unlock()
			return r.feed.Put(catalogue.ManifestFile(d), packed)
		})
	}
	return g.Wait()
}

// GetNamed reads a file that is named by its content. One that is not what its
// name says is asked of the next source.
func GetNamed(ctx context.Context, w *Wire, sources []Source, path string, check func([]byte) error) ([]byte, error) {
	var body []byte
	err := w.Attempt(ctx, sources, noProgress, func(s Source) error {
		var err error
		if body, _, err = s.get(ctx, path, catalogue.MaxPacked, validators{}); err != nil {
			return err
		}
		return check(body)
	})
	return body, err
}
