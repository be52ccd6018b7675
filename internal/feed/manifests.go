package feed

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"morvant/internal/adapter"
	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/feed/listing"
	"morvant/internal/feed/told"
	"morvant/internal/index"
)

// Unread lists the manifests of builds that have not been read, those of the first build first.
func (f *Feed) Unread(builds []catalogue.Build) []listing.Wanted {
	return listing.Unread(builds, f.toldSet())
}

// worth lists what is to be read along with the list.
func (f *Feed) worth(o Options) []listing.Wanted {
	channels, err := f.Channels()
	if err != nil || f.Dear && o.Reading == listing.Few {
		return nil
	}
	return listing.Worth(channels, o.Reading, f.toldSet())
}

// readWorth asks for the manifests that are worth having along with the list. One that does not come is asked for when it is needed.
func (s *Spoken) readWorth(ctx context.Context) error {
	list := s.feed.worth(s.o)
	if len(list) == 0 {
		return nil
	}
	read, err := s.ask(ctx, list)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil && !expected(err) {
		s.o.Meter.Warn(fmt.Sprintf("of %d manifests %d were read; what is missing is asked for when it is needed (%v)", len(list), read, s.feed.Meant(err)))
	}
	return nil
}

// ask asks for manifests, as many at once as the adapter takes. It stops where the adapter can say no more, and returns how many came
// and the first error; what has come is kept.
func (s *Spoken) ask(ctx context.Context, list []listing.Wanted) (read int, err error) {
	o := s.o
	o.Meter.Begin("Reading manifests", -1)
	defer o.Meter.End()
	var mu sync.Mutex
	came := make(map[digest.Digest]string) // why one did not; empty: it did
	var first error
	files := 0
	g, within := errgroup.WithContext(ctx)
	g.SetLimit(max(1, s.Said.AtOnce))
	for _, w := range list {
		g.Go(func() error {
			mu.Lock()
			over := o.Reading == listing.Few && files > listing.FewFiles
			mu.Unlock()
			if over || within.Err() != nil {
				return within.Err()
			}
			t, err := s.bring(within, w)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				came[w.Part.Manifest] = ""
				files += len(t.Tree.Files)
				read++
			case within.Err() != nil || s.Over() || adapter.Is(err, adapter.CodeLater) || adapter.Is(err, adapter.CodeUnreachable):
				return err
			default:
				came[w.Part.Manifest] = err.Error()
				if first == nil || expected(first) {
					first = err
				}
			}
			return nil
		})
	}
	err = g.Wait()
	return read, errors.Join(cmp.Or(err, first), s.refill(came))
}

// expected reports whether it is no news that a manifest does not come: its build is listed all the same.
func expected(err error) bool {
	return slices.ContainsFunc([]int{adapter.CodeNotOwned, adapter.CodeNoBuild, adapter.CodeLocked, adapter.CodeSignIn}, func(code int) bool { return adapter.Is(err, code) })
}

// bring asks for a manifest, and keeps it.
func (s *Spoken) bring(ctx context.Context, w listing.Wanted) (*told.Manifest, error) {
	f := s.feed
	m, err := s.Manifest(ctx, w.Build, w.Part.Name, w.Part.ID)
	if err != nil {
		return nil, err
	}
	t, err := told.New(w.Part.ID, w.Part.Name, m, f.Scope(), f.Distrusted > 0)
	if err != nil {
		return nil, err
	}
	packed, err := t.Encode()
	if err != nil {
		return nil, err
	}
	return t, f.Put(toldFile(w.Part.Manifest), packed)
}

// Bring asks the adapter for manifests that are not here. After an error some may have come.
func (f *Feed) Bring(ctx context.Context, list []listing.Wanted, o Options) error {
	if len(list) == 0 {
		return nil
	}
	o.Reading = listing.Every // those, and no fewer
	return f.again(ctx, func() error {
		return f.speaking(ctx, o, func(s *Spoken) error {
			_, err := s.ask(ctx, list)
			return f.Meant(err)
		})
	})
}

// refill notes in the list of builds what became of manifests that were asked for.
func (s *Spoken) refill(came map[digest.Digest]string) error {
	f := s.feed
	if len(came) == 0 {
		return nil
	}
	channels, err := f.Channels()
	if err != nil {
		return err
	}
	known := make(map[digest.Digest]catalogue.Part)
	for _, c := range channels {
		changed := false
		for i := range c.Builds {
			fresh := false
			for j := range c.Builds[i].Components {
				p := &c.Builds[i].Components[j]
				if why, asked := came[p.Manifest]; asked {
					p.Refused, changed, fresh = why, true, fresh || why == ""
				}
			}
			if fresh {
				if err := f.Shared(c.Builds[i]); err != nil {
					s.o.Meter.Warn(err.Error())
				}
			}
		}
		if !changed {
			continue
		}
		s.fillIn(c, known)
		if err := s.keepChannel(c); err != nil {
			return err
		}
	}
	return nil
}

// fillIn gives the components of a channel the numbers that their manifests tell. What was known of a manifest before is
// known still.
func (s *Spoken) fillIn(c *catalogue.Channel, known map[digest.Digest]catalogue.Part) {
	here := s.feed.toldSet()
	for i := range c.Builds {
		for j := range c.Builds[i].Components {
			p := &c.Builds[i].Components[j]
			if was, ok := known[p.Manifest]; ok {
				p.Files, p.Bytes, p.Download, p.Established = was.Files, was.Bytes, cmp.Or(p.Download, was.Download), was.Established
			} else if !here[p.Manifest] || p.Established != (catalogue.Established{}) {
				continue
			} else if t, err := s.feed.Told(p.Manifest); err == nil {
				known[p.Manifest] = t.Fill(p)
			}
		}
	}
}

// filled lists the components of the copy whose numbers are known.
func (s *Spoken) filled() map[digest.Digest]catalogue.Part {
	known := make(map[digest.Digest]catalogue.Part)
	channels, err := s.feed.Channels()
	if err != nil {
		return known // they are read anew
	}
	for _, c := range channels {
		for _, b := range c.Builds {
			for _, p := range b.Components {
				if p.Established != (catalogue.Established{}) {
					known[p.Manifest] = p
				}
			}
		}
	}
	return known
}

func (s *Spoken) keepChannel(c *catalogue.Channel) error {
	b, err := c.Encode()
	if err != nil {
		return err
	}
	if _, err := catalogue.DecodeChannel(b); err != nil {
		return err
	}
	return s.feed.Put(catalogue.ChannelFile(c.Channel), b)
}

// toldSet lists the manifests of the copy.
func (f *Feed) toldSet() map[digest.Digest]bool {
	set := make(map[digest.Digest]bool)
	entries, err := os.ReadDir(f.File("told"))
	if err != nil {
		return set // none
	}
	for _, e := range entries {
		if d, err := digest.Parse(strings.TrimSuffix(e.Name(), ".json.zst")); err == nil {
			set[d] = true
		}
	}
	return set
}

// names returns what a manifest of the feed is known by: what a distributor tells without strong digests counts for its subscription
// alone.
func (f *Feed) names(d digest.Digest) digest.Digest {
	if f.Adapter == "" {
		return d
	}
	return digest.Of(fmt.Appendf(nil, "%s %s", d, f.Scope()))
}

// Source is the manifest of a component for the index, with content that has not been seen under the names that stand for it.
func (f *Feed) Source(p catalogue.Part) index.Source {
	game := filepath.Base(filepath.Dir(f.dir))
	return index.Source{Name: f.names(p.Manifest), Line: game + "\n" + f.Name + "\n" + p.Name, Read: func() (*index.Listed, error) {
		if f.Adapter == "" {
			m, err := f.Manifest(p.Manifest)
			return &index.Listed{Manifest: m}, err
		}
		t, err := f.Told(p.Manifest)
		if err != nil {
			return nil, err
		}
		return &index.Listed{Manifest: t.Tree, Ways: t.Ways()}, nil
	}}
}

// Having lists told manifests that together have all of those contents that any of the distributor's manifests has, as few as can be.
func (f *Feed) Having(ctx context.Context, contents map[digest.Digest]bool) ([]*told.Manifest, error) {
	channels, err := f.Channels()
	if err != nil {
		return nil, err
	}
	of := make(map[digest.Digest]digest.Digest)
	var sources []index.Source
	here := f.toldSet()
	for _, c := range channels {
		for _, b := range c.Builds {
			for _, p := range b.Components {
				if s := f.Source(p); here[p.Manifest] && of[s.Name].IsZero() {
					of[s.Name] = p.Manifest
					sources = append(sources, s)
				}
			}
		}
	}
	v, err := f.Index.Of(ctx, sources)
	if err != nil {
		return nil, err
	}
	names, err := v.Having(ctx, contents)
	var list []*told.Manifest
	for _, name := range names {
		if t, err := f.Told(of[name]); err == nil { // else it might have helped
			list = append(list, t)
		}
	}
	return list, err
}
