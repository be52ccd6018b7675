// Package publish makes feeds: folders that any web server can serve, from
// builds in the store.
//
// A feed grows and never changes: manifests, layouts and packs are named by their
// content and stay as they are; only the signed catalogue is replaced, and only
// once everything it names is on disk. Only content of the builds named is ever
// written: each chunk is one that a manifest given here needs.
//
// Chunks are packed by component, and apart for each locked channel, so that a
// server can hand out one and refuse another.
package publish

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"aead.dev/minisign"
	"github.com/gofrs/flock"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/progress"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// Errors that callers test for.
var (
	ErrBusy  = problem.New("another Morvant is publishing there", problem.TryAgain)
	ErrTaken = errors.New("already published with other content")
	ErrOwner = errors.New("the feed is signed by another key")
)

// Build is a build to publish.
type Build struct {
	Label   string
	Channel string
	Date    time.Time
	Note    string
	Parts   map[string]*Part // by component
}

// Part is what a build has of one component.
type Part struct {
	Manifest *manifest.Manifest
	Programs []string // sorted paths of files that are programs
	// Times are when the files were last changed, in the manifest's order; nil: not known of any.
	Times []time.Time
}

// Request says what to publish, and where.
type Request struct {
	Dest  string // the folder of the feed
	Store *store.Store
	Key   minisign.PrivateKey

	Name       string                // of the feed; empty: that of the feed there
	Game       string                // as the feed calls it
	Components []catalogue.Component // added to those that the feed has
	Locked     map[string]bool       // channels that ask for a key
	SignIn     string                // address that gives out tokens; empty: as it was
	Valid      time.Duration         // how long the catalogue can be trusted
	Builds     []Build

	ManifestsOnly bool // no content: builds can be recognised and compared, not fetched
	// Serials are the serial numbers that this key has given out last, by feed and path of
	// the signed file. Files in the folder that have lower ones are old ones put back.
	Serials map[string]int64
	// Check reads every pack of the feed whole.
	Check bool

	Meter progress.Meter
	Now   func() time.Time
}

// Result is what publishing came to.
type Result struct {
	Feed    *catalogue.Feed
	Added   []string // CHANNEL/LABEL of builds that were not there
	Same    []string // those that were
	Mended  []string // those that were, and whose content was damaged or gone
	Broken  []string // those whose content is damaged or gone and that were not to be published again
	Damaged int      // packs that were put aside
	Older   []string // signed files that were older than what this publisher had given out
	Serials map[string]int64
	Chunks  int   // added
	Written int64 // bytes that the feed grew by
}

// feedDir is a feed's folder while it is published to.
type feedDir struct {
	Request
	lock     *flock.Flock
	feed     *catalogue.Feed
	channels map[string]*catalogue.Channel
	result   *Result
}

// Do publishes. Interrupted, it leaves the feed as it was, with at most some
// packs more, which the next run uses.
func Do(ctx context.Context, r Request) (*Result, error) {
	d := &feedDir{Request: r, channels: make(map[string]*catalogue.Channel), result: &Result{Serials: make(map[string]int64)}}
	for _, dir := range []string{"channels", "manifests", "layouts", "packs"} {
		if err := os.MkdirAll(filepath.Join(r.Dest, dir), 0o755); err != nil {
			return nil, err
		}
	}
	var err error
	if d.lock, err = volume.NewLock(filepath.Join(r.Dest, ".publish.lock")); err != nil {
		return nil, err
	}
	switch ok, err := d.lock.TryLock(); {
	case err != nil:
		return nil, fmt.Errorf("lock %s: %w", r.Dest, err)
	case !ok:
		return nil, fmt.Errorf("%s: %w", r.Dest, ErrBusy)
	}
	defer d.lock.Close()
	if err := d.run(ctx); err != nil {
		return nil, err
	}
	return d.result, nil
}

func (d *feedDir) run(ctx context.Context) error {
	if err := d.read(); err != nil {
		return err
	}
	slices.SortStableFunc(d.Builds, func(a, b Build) int { return a.Date.Compare(b.Date) })
	var fresh, same []*Build
	for i := range d.Builds {
		there, err := d.published(&d.Builds[i])
		if err != nil {
			return err
		}
		name := d.Builds[i].Channel + "/" + d.Builds[i].Label
		if there {
			d.result.Same = append(d.result.Same, name)
			same = append(same, &d.Builds[i])
			continue
		}
		d.result.Added = append(d.result.Added, name)
		fresh = append(fresh, &d.Builds[i])
	}
	if err := d.write(ctx, fresh, same); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return d.catalogue()
}

// read reads the feed that is there, if there is one, and checks that it is ours.
func (d *feedDir) read() error {
	public := d.Key.Public().(catalogue.PublicKey)
	body, err := d.signed(catalogue.FeedFile, public)
	if errors.Is(err, fs.ErrNotExist) {
		if d.Name == "" {
			return errors.New("a new feed needs a name (--feed NAME)")
		}
		d.feed = &catalogue.Feed{Format: catalogue.FeedFormat, Name: d.Name, Game: d.Game, Key: catalogue.KeyText(public)}
		return nil
	}
	if err != nil {
		return err
	}
	if d.feed, err = catalogue.DecodeFeed(body); err != nil {
		return fmt.Errorf("%s: %w", catalogue.FeedFile, err)
	}
	if d.Name != "" && d.Name != d.feed.Name {
		return fmt.Errorf("%s holds the feed %s, not %s", d.Dest, d.feed.Name, d.Name)
	}
	for _, line := range d.feed.Channels {
		body, err := d.signed(catalogue.ChannelFile(line.Name), public)
		if err != nil {
			return err
		}
		if d.channels[line.Name], err = catalogue.DecodeChannel(body); err != nil {
			return fmt.Errorf("channel %s: %w", line.Name, err)
		}
	}
	return nil
}

// Suffix of a signed file that is about to take its place.
const next = ".next"

// signed reads a signed file. A pair of file and signature whose exchange was cut
// off is put in place first.
func (d *feedDir) signed(path string, key catalogue.PublicKey) ([]byte, error) {
	if err := d.settle(path, key); err != nil {
		return nil, err
	}
	body, err := volume.ReadFile(d.file(path), catalogue.MaxSigned)
	if err != nil {
		return nil, err
	}
	signature, err := volume.ReadFile(d.file(catalogue.SignatureOf(path)), volume.Small)
	if err != nil {
		return nil, err
	}
	if err := catalogue.Verify(key, body, signature); err != nil {
		return nil, fmt.Errorf("%s: %w", d.file(path), ErrOwner)
	}
	return body, nil
}

// settle finishes the exchange of a signed file that a crash cut off: if the new
// signature fits the new file, or the file that has taken its place already, it
// is put in place; else both are dropped.
func (d *feedDir) settle(path string, key catalogue.PublicKey) error {
	sig := catalogue.SignatureOf(path)
	signature, err := volume.ReadFile(d.file(sig+next), volume.Small)
	if errors.Is(err, fs.ErrNotExist) {
		return removeIfThere(d.file(path + next))
	}
	if err != nil {
		return err
	}
	if body, err := volume.ReadFile(d.file(path+next), catalogue.MaxSigned); err == nil && catalogue.Verify(key, body, signature) == nil {
		return d.exchange(path)
	}
	if body, err := volume.ReadFile(d.file(path), catalogue.MaxSigned); err == nil && catalogue.Verify(key, body, signature) == nil {
		if err := process.Rename(d.file(sig+next), d.file(sig)); err != nil {
			return err
		}
		return volume.SyncFolder(filepath.Dir(d.file(path)))
	}
	return errors.Join(removeIfThere(d.file(path+next)), os.Remove(d.file(sig+next)))
}

func removeIfThere(name string) error {
	if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// exchange puts a new file and its signature in place, the file first.
func (d *feedDir) exchange(path string) error {
	for _, p := range []string{path, catalogue.SignatureOf(path)} {
		if err := process.Rename(d.file(p+next), d.file(p)); err != nil {
			return err
		}
	}
	return volume.SyncFolder(filepath.Dir(d.file(path)))
}

func (d *feedDir) file(path string) string { return filepath.Join(d.Dest, filepath.FromSlash(path)) }

// published reports whether the build is in the feed already.
func (d *feedDir) published(b *Build) (bool, error) {
	if err := errors.Join(catalogue.CheckLabel(b.Label), catalogue.CheckChannel(b.Channel), catalogue.CheckText(b.Note)); err != nil {
		return false, err
	}
	if d.channels[b.Channel] != nil && d.Locked[b.Channel] && !d.locked(b.Channel) {
		return false, fmt.Errorf("the channel %s of %s is already public, and cannot be locked afterwards", b.Channel, d.feed.Name)
	}
	c := d.channels[b.Channel]
	if c == nil {
		return false, nil
	}
	i := slices.IndexFunc(c.Builds, func(have catalogue.Build) bool { return have.Label == b.Label })
	if i < 0 {
		return false, nil
	}
	have := c.Builds[i]
	same := len(have.Components) == len(b.Parts)
	for _, p := range have.Components {
		mine, ok := b.Parts[p.Name]
		same = same && ok && mine.Manifest.Digest() == p.Manifest
	}
	if !same {
		return false, fmt.Errorf("%s/%s is %w; give this one another label", b.Channel, b.Label, ErrTaken)
	}
	return true, nil
}

// locked reports whether a channel asks for a key.
func (d *feedDir) locked(channel string) bool {
	for _, line := range d.feed.Channels {
		if line.Name == channel {
			return line.Locked
		}
	}
	return d.Locked[channel]
}

// group names the packs that a build's chunks of a component go into.
func (d *feedDir) group(b *Build, component string) group {
	g := group{Component: component}
	if d.locked(b.Channel) {
		g.Channel = b.Channel
	}
	return g
}

// catalogue signs and replaces what has changed of the catalogue, channels first:
// the feed never names a channel that is not there.
func (d *feedDir) catalogue() error {
	now := d.Now().UTC().Truncate(time.Second)
	expires := now.Add(d.Valid)
	for _, name := range d.channelNames() {
		c := d.channels[name]
		// Every channel is signed anew: publishing also renews what would expire.
		c.Serial = d.nextSerial(catalogue.ChannelFile(name), c.Serial)
		c.Made, c.Expires = now, expires
		body, err := c.Encode()
		if err != nil {
			return err
		}
		if _, err := catalogue.DecodeChannel(body); err != nil {
			return fmt.Errorf("channel %s: %w", name, err)
		}
		if err := d.replace(catalogue.ChannelFile(name), body, fmt.Sprintf("%s/%s serial %d", d.feed.Name, name, c.Serial)); err != nil {
			return err
		}
	}
	f := d.feed
	f.Serial = d.nextSerial(catalogue.FeedFile, f.Serial)
	f.Made, f.Expires = now, expires
	if d.SignIn != "" {
		f.SignIn = &catalogue.SignIn{Token: d.SignIn}
	}
	names := d.channelNames()
	lockedNow := make(map[string]bool)
	for _, name := range names {
		lockedNow[name] = d.locked(name)
	}
	f.Channels = nil
	for _, name := range names {
		f.Channels = append(f.Channels, catalogue.Line{Name: name, Locked: lockedNow[name]})
	}
	for _, c := range d.Components {
		if !slices.ContainsFunc(f.Components, func(have catalogue.Component) bool { return have.Name == c.Name }) {
			f.Components = append(f.Components, c)
		}
	}
	body, err := f.Encode()
	if err != nil {
		return err
	}
	if _, err := catalogue.DecodeFeed(body); err != nil {
		return err
	}
	d.result.Feed = f
	return d.replace(catalogue.FeedFile, body, fmt.Sprintf("%s serial %d", f.Name, f.Serial))
}

// nextSerial numbers a signed file on from what is there, or from what was given out last:
// those who read the feed refuse a number that is lower than one they have seen.
func (d *feedDir) nextSerial(path string, there int64) int64 {
	name := d.feed.Name + " " + path
	if known := d.Serials[name]; known > there {
		if there > 0 {
			d.result.Older = append(d.result.Older, path)
		}
		there = known
	}
	d.result.Serials[name] = there + 1
	return there + 1
}

// channelNames lists the channels, those with the most builds in front: the first
// is the one that is meant when none is named.
func (d *feedDir) channelNames() []string {
	var names []string
	for _, line := range d.feed.Channels {
		names = append(names, line.Name)
	}
	var fresh []string
	for name := range d.channels {
		if !slices.Contains(names, name) {
			fresh = append(fresh, name)
		}
	}
	slices.SortFunc(fresh, func(a, b string) int {
		if x, y := d.locked(a), d.locked(b); x != y {
			if y {
				return -1
			}
			return 1
		}
		if n := len(d.channels[b].Builds) - len(d.channels[a].Builds); n != 0 {
			return n
		}
		return strings.Compare(a, b)
	})
	return append(names, fresh...)
}

// replace signs a file and puts it in place of the one before.
func (d *feedDir) replace(path string, body []byte, what string) error {
	signature := catalogue.Sign(d.Key, body, what)
	if err := volume.Replace(d.file(path+next), body, 0o644); err != nil {
		return err
	}
	if err := volume.Replace(d.file(catalogue.SignatureOf(path)+next), signature, 0o644); err != nil {
		return err
	}
	if err := volume.SyncFolder(filepath.Dir(d.file(path))); err != nil {
		return err
	}
	return d.exchange(path)
}

// addBuild lists a build, whose content is all there, in its channel.
func (d *feedDir) addBuild(b *Build, parts []catalogue.Part) {
	c := d.channels[b.Channel]
	if c == nil {
		c = &catalogue.Channel{Format: catalogue.ChannelFormat, Feed: d.feed.Name, Channel: b.Channel}
		d.channels[b.Channel] = c
	}
	if i := slices.IndexFunc(c.Builds, func(have catalogue.Build) bool { return have.Label == b.Label }); i >= 0 {
		c.Builds[i].Components = parts // the same content, packed anew
		return
	}
	c.Builds = append(c.Builds, catalogue.Build{Label: b.Label, Date: b.Date.UTC().Truncate(time.Second), Note: b.Note, Components: parts})
	slices.SortStableFunc(c.Builds, func(x, y catalogue.Build) int { return x.Date.Compare(y.Date) })
}

// digests lists the content of a manifest in the order of its paths, each once.
func digests(m *manifest.Manifest) []digest.Digest {
	var list []digest.Digest
	seen := make(map[digest.Digest]bool, len(m.Files))
	for _, f := range m.Files {
		if !seen[f.Digest] {
			seen[f.Digest] = true
			list = append(list, f.Digest)
		}
	}
	return list
}
