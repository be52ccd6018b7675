package feed

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"morvant/internal/adapter"
	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/feed/told"
)

// Reading says which manifests are asked for along with the list of a distributor.
type Reading int

// Few are the newest, up to a bound; Sample the newest, the oldest and some between; Every all of them.
const (
	Few Reading = iota
	Sample
	Every
)

// What is read without being asked for, at most: a distributor may have thousands of builds with many files each, and the rest
// comes when it is needed.
const (
	fewManifests = 20
	fewFiles     = 20_000
	sampled      = 10 // builds between the newest and the oldest
)

// Wanted is a manifest that is to be asked for.
type Wanted struct {
	Build string // the distributor's id of one that has it; empty: it is not listed any more
	Part  catalogue.Part
}

// Unread lists the manifests of builds that have not been read, those of the first build first, each once. What the distributor has
// refused since the list was read is left out.
func (f *Feed) Unread(builds []catalogue.Build) []Wanted {
	var list []Wanted
	seen := f.toldSet()
	for _, b := range builds {
		for _, p := range b.Components {
			if !seen[p.Manifest] && p.Refused == "" {
				seen[p.Manifest] = true
				list = append(list, Wanted{b.Asked(), p})
			}
		}
	}
	return list
}

// worth lists what is to be read along with the list.
func (f *Feed) worth(o Options) []Wanted {
	channels, err := f.Channels()
	if err != nil || f.Dear && o.Reading == Few {
		return nil
	}
	var list []Wanted
	for _, c := range channels {
		builds := slices.Clone(c.Builds)
		slices.Reverse(builds) // the newest first
		if o.Reading == Sample {
			builds = spread(builds, sampled+2)
		}
		list = append(list, f.Unread(builds)...)
	}
	if o.Reading != Few {
		return list
	}
	list = list[:min(len(list), fewManifests)]
	files := 0
	for i, w := range list {
		if files += w.Part.Files; files > fewFiles {
			return list[:i]
		}
	}
	return list
}

// spread chooses n of a list, the first and the last among them.
func spread[T any](list []T, n int) []T {
	if len(list) <= n {
		return list
	}
	var some []T
	for i := range n {
		some = append(some, list[i*(len(list)-1)/(n-1)])
	}
	return some
}

// readWorth asks for the manifests that are worth having along with the list. One that does not come is asked for when it is needed.
func (f *Feed) readWorth(ctx context.Context, s *Spoken, o Options) error {
	list := f.worth(o)
	if len(list) == 0 {
		return nil
	}
	read, err := f.ask(ctx, s, list, o)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil && !expected(err) {
		o.Meter.Warn(fmt.Sprintf("of %d manifests %d were read; what is missing is asked for when it is needed (%v)", len(list), read, f.Meant(err)))
	}
	return nil
}

// ask asks for manifests, as many at once as the adapter takes. It stops where the adapter can say no more, and returns how many came
// and the first error; what has come is kept.
func (f *Feed) ask(ctx context.Context, s *Spoken, list []Wanted, o Options) (read int, err error) {
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
			over := o.Reading == Few && files > fewFiles
			mu.Unlock()
			if over || within.Err() != nil {
				return within.Err()
			}
			t, err := f.bring(within, s, w)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				came[w.Part.Manifest] = ""
				files += len(t.Tree.Files)
				read++
			case s.Over() || adapter.Is(err, adapter.CodeLater) || adapter.Is(err, adapter.CodeUnreachable):
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
	return read, errors.Join(cmp.Or(err, first), f.refill(came, o))
}

// expected reports whether it is no news that a manifest does not come: its build is listed all the same.
func expected(err error) bool {
	return slices.ContainsFunc([]int{adapter.CodeNotOwned, adapter.CodeNoBuild, adapter.CodeLocked, adapter.CodeSignIn}, func(code int) bool { return adapter.Is(err, code) })
}

// bring asks for a manifest, and keeps it.
func (f *Feed) bring(ctx context.Context, s *Spoken, w Wanted) (*told.Manifest, error) {
	m, err := s.Manifest(ctx, w.Build, w.Part.Name, w.Part.ID)
	if err != nil {
		return nil, err
	}
	t, err := told.New(w.Part.ID, w.Part.Name, m, f.scope(), f.Distrusted > 0)
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
func (f *Feed) Bring(ctx context.Context, list []Wanted, o Options) error {
	if len(list) == 0 {
		return nil
	}
	o.Reading = Every // those, and no fewer
	return f.again(ctx, func() error {
		return f.speaking(ctx, o, func(s *Spoken) error {
			_, err := f.ask(ctx, s, list, o)
			return f.Meant(err)
		})
	})
}

// refill notes in the list of builds what became of manifests that were asked for.
func (f *Feed) refill(came map[digest.Digest]string, o Options) error {
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
				why, asked := came[p.Manifest]
				if asked {
					p.Refused, changed, fresh = why, true, fresh || why == ""
				}
			}
			if err := f.Shared(c.Builds[i]); fresh && err != nil {
				o.Meter.Warn(err.Error())
			}
		}
		if !changed {
			continue
		}
		f.fillIn(c, known)
		if err := f.keepChannel(c); err != nil {
			return err
		}
	}
	return nil
}

// fillIn gives the components of a channel the numbers that their manifests tell. What was known of a manifest before is
// known still.
func (f *Feed) fillIn(c *catalogue.Channel, known map[digest.Digest]catalogue.Part) {
	here := f.toldSet()
	for i := range c.Builds {
		for j := range c.Builds[i].Components {
			p := &c.Builds[i].Components[j]
			if was, ok := known[p.Manifest]; ok {
				p.Files, p.Bytes, p.Download, p.Established = was.Files, was.Bytes, cmp.Or(p.Download, was.Download), was.Established
			} else if !here[p.Manifest] || p.Established != (catalogue.Established{}) {
				continue
			} else if t, err := f.Told(p.Manifest); err == nil {
				known[p.Manifest] = t.Fill(p)
			}
		}
	}
}

// filled lists the components of the copy whose numbers are known.
func (f *Feed) filled() map[digest.Digest]catalogue.Part {
	known := make(map[digest.Digest]catalogue.Part)
	channels, err := f.Channels()
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

func (f *Feed) keepChannel(c *catalogue.Channel) error {
	b, err := c.Encode()
	if err != nil {
		return err
	}
	if _, err := catalogue.DecodeChannel(b); err != nil {
		return err
	}
	return f.Put(catalogue.ChannelFile(c.Channel), b)
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
