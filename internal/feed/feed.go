// Package feed is the client side of feeds: it keeps a copy of their signed
// catalogues on this computer, signs in where a feed asks for it, and fetches
// missing content into the store.
//
// A feed that has been added is a folder with a subscription and a copy of the
// catalogue, which answers when there is no connection. Whatever comes from a feed is
// treated as hostile: catalogues count only if signed by the key that was first
// seen (or demanded), not older than what is known and not expired; manifests
// and layouts only if they have the digest that the catalogue names; content only
// chunk by chunk, each checked, and each file once more as a whole.
package feed

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"morvant/internal/alias"
	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/feed/fence"
	"morvant/internal/feed/secret"
	"morvant/internal/feed/told"
	"morvant/internal/index"
	"morvant/internal/manifest"
	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/volume"
)

// Errors that callers test for.
var (
	ErrKey      = errors.New("the feed is signed by another key")
	ErrRollback = problem.New("the catalogue is older than the one known", catalogue.NotTaken)
	ErrExpired  = problem.New("the catalogue has expired", catalogue.NotTaken)
	ErrExists   = errors.New("already there")
	ErrUnknown  = errors.New("not known")
	ErrCopy     = errors.New("the copy of the feed is not whole")
	ErrNone     = errors.New("no feed has been added")
	// ErrSubscription is of a feed that can only be removed.
	ErrSubscription = problem.New("its subscription cannot be read", "Remove the feed, and add it again")
)

const (
	subscriptionFile = "subscription.json"
	subscriptionCopy = "subscription.copy.json"
	tokenFile        = "token.json"
)

// Subscription is what is remembered of a feed that has been added.
type Subscription struct {
	Addresses []string              `json:"addresses"` // the first, and its mirrors
	Key       string                `json:"key"`
	Added     time.Time             `json:"added"`
	Refreshed time.Time             `json:"refreshed,omitzero"` // when it last answered
	Marks     map[string]validators `json:"marks,omitempty"`
	Locked    []string              `json:"locked,omitempty"` // channels that could not be read
	// Serials are the serial numbers of the signed files that were last taken, by path:
	// an older one counts for nothing, also where the copy is gone.
	Serials map[string]int64 `json:"serials,omitempty"`
	// SecretsTo is the server that passwords and keys were sent to last.
	SecretsTo string `json:"secrets_to,omitempty"`
	// Adapter is the program that speaks for the distributor, as the player named it; empty: the feed is one of
	// Morvant's own. Game is whose feed it is, and User who is signed in.
	Adapter string `json:"adapter,omitempty"`
	Game    string `json:"game,omitempty"`
	User    string `json:"user,omitempty"`
	// Dear says that the distributor can tell a manifest only at the price of a download.
	Dear bool `json:"dear,omitempty"`
	// Distrusted counts how often all that rests on the feed alone was dropped. Its weak digests count for nothing then.
	Distrusted int `json:"distrusted,omitempty"`
}

// Feed is a feed that has been added.
type Feed struct {
	Name string
	Subscription
	// Broken says why the subscription cannot be read; such a feed can only be removed.
	Broken error
	// Mended says that the subscription was damaged, and is restored from its second copy.
	Mended bool
	// Known tells which content is meant by the digests of distributors; nil: nothing is known. Programs is the
	// folder of adapters that are called by name.
	Known    *alias.Table
	Index    *index.Index // of what manifests hold; nil: they are decoded
	Programs string
	dir      string
	told     told.Memory
}

// List loads the feeds below base, by name.
func List(base string) ([]*Feed, error) {
	entries, err := os.ReadDir(base)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var list []*Feed
	for _, e := range entries {
		if catalogue.CheckName(e.Name()) != nil {
			continue
		}
		f, err := load(filepath.Join(base, e.Name()), e.Name())
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			f = &Feed{Name: e.Name(), dir: filepath.Join(base, e.Name()), Broken: fmt.Errorf("%w (%w)", ErrSubscription, err)}
		}
		list = append(list, f)
	}
	slices.SortStableFunc(list, func(a, b *Feed) int { return a.Added.Compare(b.Added) })
	return list, nil
}

// Find loads one of the feeds below base; the only one if name is empty.
func Find(base, name string) (*Feed, error) {
	list, err := List(base)
	if err != nil {
		return nil, err
	}
	if name == "" && len(list) == 1 {
		return list[0], nil
	}
	var names []string
	for _, f := range list {
		if f.Name == name {
			return f, nil
		}
		names = append(names, f.Name)
	}
	switch {
	case len(list) == 0:
		return nil, ErrNone
	case name == "":
		return nil, fmt.Errorf("there are several feeds; name one: %s: %w", strings.Join(names, ", "), ErrUnknown)
	}
	return nil, fmt.Errorf("there is no feed \"%s\"; there is %s: %w", name, strings.Join(names, ", "), ErrUnknown)
}

// load reads a subscription: from its second copy where the first is damaged, which is then put right.
func load(dir, name string) (*Feed, error) {
	f := &Feed{Name: name, dir: dir}
	err := f.read(subscriptionFile)
	if err == nil {
		return f, nil
	}
	if copyErr := f.read(subscriptionCopy); copyErr != nil {
		return nil, err
	}
	f.Mended = true
	_ = f.save() // it is read from the copy again, else
	return f, nil
}

// read reads a copy of the subscription.
func (f *Feed) read(file string) error {
	b, err := volume.ReadFile(f.File(file), volume.Small)
	if err != nil {
		return err
	}
	var s sealedSubscription
	if err := json.Unmarshal(b, &s); err != nil {
		return fmt.Errorf("%s: %w", f.File(file), err)
	}
	if s.Seal != "" && s.Seal != s.Subscription.seal() {
		return fmt.Errorf("%s: %w", f.File(file), ErrCopy)
	}
	f.Subscription = s.Subscription
	return nil
}

// sealedSubscription is a subscription as it is written. Earlier versions wrote no seal.
type sealedSubscription struct {
	Subscription
	Seal string `json:"seal,omitempty"`
}

// seal tells a subscription that is as it was written.
func (s *Subscription) seal() string {
	b, err := json.Marshal(s)
	if err != nil {
		return ""
	}
	return digest.Of(b).Short()
}

// save writes both copies.
func (f *Feed) save() error {
	b, err := json.MarshalIndent(sealedSubscription{f.Subscription, f.seal()}, "", "  ")
	if err != nil {
		return err
	}
	return errors.Join(f.Put(subscriptionFile, b), f.Put(subscriptionCopy, b))
}

// File returns where a file of the copy stands.
func (f *Feed) File(path string) string { return filepath.Join(f.dir, filepath.FromSlash(path)) }

// Put writes a file of the copy as a whole.
func (f *Feed) Put(path string, b []byte) error {
	name := f.File(path)
	if err := volume.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return volume.Replace(name, b, 0o600)
}

// Adding says what feed to add.
type Adding struct {
	Base      string   // folder of the game's feeds
	Name      string   // empty: as the feed calls itself
	Addresses []string // the feed, then mirrors of it
	Key       string   // the key it must be signed by; empty: the one it shows
}

// Add adds a feed and brings its catalogue here.
func Add(ctx context.Context, a Adding, o Options) (*Feed, error) {
	if a.Key != "" {
		if _, err := catalogue.ParseKey(a.Key); err != nil {
			return nil, err
		}
	}
	addresses, err := absolute(a.Addresses)
	if err != nil {
		return nil, err
	}
	w := newWire(o)
	defer w.Close()
	var sources []Source
	for _, address := range addresses {
		s, err := newSource(address, w)
		if err != nil {
			return nil, err
		}
		sources = append(sources, s)
	}
	// Brought to a folder of its own first: half a feed is no feed.
	if err := volume.MkdirAll(a.Base, 0o755); err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp(a.Base, ".adding-*")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	f := &Feed{dir: dir, Subscription: Subscription{Addresses: addresses, Key: a.Key, Added: o.Now()}}
	r := &refresh{feed: f, wire: w, sources: sources}
	if err := r.run(ctx); err != nil {
		return nil, err
	}
	return f, f.settle(a, r.described.Name)
}

// settle gives a feed that has been brought here its name, and its place among the others.
func (f *Feed) settle(a Adding, calls string) error {
	f.Name = cmp.Or(a.Name, calls)
	if err := catalogue.CheckName(f.Name); err != nil {
		return err
	}
	was, final := f.dir, filepath.Join(a.Base, f.Name)
	if _, err := os.Stat(final); err == nil {
		return fmt.Errorf("a feed named %s is %w; choose another name with --name", f.Name, ErrExists)
	}
	f.dir = final
	if err := process.Rename(was, final); err != nil {
		return err
	}
	return volume.SyncFolder(a.Base)
}

// absolute makes folder addresses independent of where the program is started.
func absolute(addresses []string) ([]string, error) {
	var out []string
	for _, a := range addresses {
		if u, err := url.Parse(a); err != nil || len(u.Scheme) < 2 {
			full, err := filepath.Abs(a)
			if err != nil {
				return nil, err
			}
			a = full
		}
		out = append(out, a)
	}
	return out, nil
}

// Remove forgets the feed, its copy and its sign-in.
func (f *Feed) Remove() error {
	if f.Adapter != "" {
		return errors.Join(f.secrets().Forget(), os.RemoveAll(f.dir))
	}
	return errors.Join(f.keep().Forget(), os.RemoveAll(f.dir))
}

// Distrust drops what is known by the feed's weak digests, or by its word alone, for good.
func (f *Feed) Distrust(ctx context.Context) error {
	l, err := f.alone(ctx)
	if err != nil {
		return err
	}
	defer l.Close()
	f.Distrusted++
	return f.save()
}

// keep is where the feed's token lives.
func (f *Feed) keep() secret.One { return secret.One{Name: f.dir, File: f.File(tokenFile)} }

// alone locks the feed and reads what others may have written while this one waited.
func (f *Feed) alone(ctx context.Context) (*flock.Flock, error) {
	l, err := f.lock(ctx)
	if err != nil {
		return nil, err
	}
	if now, err := load(f.dir, f.Name); err == nil {
		f.Subscription = now.Subscription
	}
	return l, nil
}

// lock keeps others from refreshing the same feed.
func (f *Feed) lock(ctx context.Context) (*flock.Flock, error) {
	l, err := volume.NewLock(f.File(".lock"))
	if err != nil {
		return nil, err
	}
	_, err = l.TryLockContext(ctx, 50*time.Millisecond)
	return l, err
}

// Described returns the feed's description of itself, as it was last read.
func (f *Feed) Described() (*catalogue.Feed, error) {
	b, err := volume.ReadFile(f.File(catalogue.FeedFile), catalogue.MaxSigned)
	if err != nil {
		return nil, err
	}
	return catalogue.DecodeFeed(b)
}

// Channels returns the channels that could be read, in the feed's order.
func (f *Feed) Channels() ([]*catalogue.Channel, error) {
	if f.Broken != nil {
		return nil, f.Broken
	}
	described, err := f.Described()
	if err != nil {
		return nil, err
	}
	var list []*catalogue.Channel
	for _, line := range described.Channels {
		b, err := volume.ReadFile(f.File(catalogue.ChannelFile(line.Name)), catalogue.MaxSigned)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		c, err := catalogue.DecodeChannel(b)
		if err != nil {
			return nil, fmt.Errorf("channel %s of the feed %s: %w", line.Name, f.Name, err)
		}
		list = append(list, c)
	}
	return list, nil
}

// Manifest returns a manifest of the copy.
func (f *Feed) Manifest(d digest.Digest) (*manifest.Manifest, error) {
	if f.Adapter != "" {
		t, err := f.Told(d)
		if err != nil {
			return nil, err
		}
		return f.Known.Manifest(t.Tree), nil
	}
	packed, err := volume.ReadFile(f.File(catalogue.ManifestFile(d)), catalogue.MaxPacked)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("manifest %s of the feed %s: %w: %w", d.Short(), f.Name, ErrCopy, ErrMissing)
	}
	if err != nil {
		return nil, err
	}
	m, err := decodeManifest(packed, d)
	if err != nil {
		// Of no use any more; the next refresh brings it again.
		_ = os.Remove(f.File(catalogue.ManifestFile(d)))
		return nil, fmt.Errorf("%w: %w", ErrCopy, err)
	}
	return m, nil
}

func decodeManifest(packed []byte, d digest.Digest) (*manifest.Manifest, error) {
	b, err := catalogue.Unpack(packed, d)
	if err != nil {
		return nil, fmt.Errorf("manifest %s: %w", d.Short(), err)
	}
	m, err := manifest.Decode(b)
	if err != nil {
		return nil, fmt.Errorf("manifest %s: %w", d.Short(), err)
	}
	return m, nil
}

// SignedIn returns who is signed in; empty if nobody is. Channels may be unlocked
// without a name.
func (f *Feed) SignedIn() (user string, ok bool) {
	if f.Adapter != "" {
		return f.User, f.User != ""
	}
	t, err := loadToken(f.keep())
	if err != nil || t == nil {
		return "", false
	}
	return t.User, true
}

// Connect returns the way to the feed's servers and its sources.
func (f *Feed) Connect(o Options) (*Wire, []Source, error) {
	w := newWire(o)
	if f.Adapter != "" {
		w.fence = fence.For(context.Background(), f.Addresses[0])
		w.fence.Around(w.client.Transport.(*http.Transport))
		return w, nil, nil // it names places as they are needed
	}
	if err := w.useToken(f); err != nil {
		w.Close()
		return nil, nil, err
	}
	var sources []Source
	var errs []error
	for _, address := range f.Addresses {
		s, err := newSource(address, w)
		if err != nil {
			errs = append(errs, err) // a folder on a disk that is not there, say
			continue
		}
		sources = append(sources, s)
	}
	if len(sources) == 0 {
		w.Close()
		return nil, nil, errors.Join(errs...)
	}
	return w, sources, nil
}

// useToken loads the feed's token. It is for the feed's first server and the one
// that gave it, not for mirrors elsewhere.
func (w *Wire) useToken(f *Feed) error {
	k := f.keep()
	t, err := loadToken(k)
	if err != nil || t == nil {
		return err
	}
	hosts := make(map[string]bool)
	for _, address := range []string{f.Addresses[0], t.Address} {
		if u, err := url.Parse(address); err == nil && u.Host != "" {
			hosts[u.Host] = true
		}
	}
	w.tokens = &tokens{keep: k, wire: w, hosts: hosts, now: w.now, token: t}
	return nil
}

// TokenAddress returns where the feed wants people to sign in.
func (f *Feed) TokenAddress() (string, error) {
	d, err := f.Described()
	if err != nil {
		return "", err
	}
	if d.SignIn == nil {
		return "", fmt.Errorf("the feed %s needs no sign-in: %w", f.Name, ErrUnknown)
	}
	return d.SignIn.Token, nil
}

// TokenHost returns the server that the feed wants passwords and keys sent to, and the one
// that they were sent to before; empty if they never were.
func (f *Feed) TokenHost() (now, was string, err error) {
	address, err := f.TokenAddress()
	if err != nil {
		return "", "", err
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return "", "", fmt.Errorf("%w: the feed's address for signing in", ErrAddress)
	}
	if was = f.SecretsTo; was == "" {
		// Earlier versions remembered it with the token only.
		if t, err := loadToken(f.keep()); err == nil && t != nil {
			if given, err := url.Parse(t.Address); err == nil {
				was = given.Host
			}
		}
	}
	return u.Host, was, nil
}

// SignIn exchanges credentials for a token and keeps it. where says where, for
// people. A *RefusedError says what the service wants instead.
func (f *Feed) SignIn(ctx context.Context, c Credentials, o Options) (where string, err error) {
	form := url.Values{"grant_type": {"password"}, "username": {c.User}, "password": {c.Password}}
	if c.Code != "" {
		form.Set("otp", c.Code)
	}
	return f.exchange(ctx, form, c.User, o)
}

// Unlock posts the key of a locked channel and widens the token, or begins one.
func (f *Feed) Unlock(ctx context.Context, channel, key string, o Options) error {
	_, err := f.exchange(ctx, url.Values{"grant_type": {channelGrant}, "channel": {channel}, "key": {key}}, "", o)
	return err
}

func (f *Feed) exchange(ctx context.Context, form url.Values, user string, o Options) (string, error) {
	address, err := f.TokenAddress()
	if err != nil {
		return "", err
	}
	w := newWire(o)
	defer w.Close()
	bearer := ""
	if user == "" {
		if err := w.useToken(f); err != nil {
			return "", err
		}
		if u, err := url.Parse(address); err == nil && w.tokens != nil && w.tokens.fits(u) {
			if bearer, err = w.tokens.current(ctx, false); err != nil {
				return "", err
			}
			if w.tokens.token != nil {
				user = w.tokens.token.User
			}
		}
	}
	t, err := w.Grant(ctx, address, bearer, form, o.Now())
	if err != nil {
		return "", err
	}
	t.User = user
	if err := f.sentTo(ctx, address); err != nil {
		return "", err
	}
	return saveToken(f.keep(), t)
}

// sentTo remembers which server has been given secrets.
func (f *Feed) sentTo(ctx context.Context, address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == f.SecretsTo {
		return err
	}
	l, err := f.alone(ctx)
	if err != nil {
		return err
	}
	defer l.Close()
	f.SecretsTo = u.Host
	return f.save()
}

// SignOut forgets the token.
func (f *Feed) SignOut(ctx context.Context, o Options) error {
	if f.Adapter != "" {
		return f.signOutByAdapter(ctx, o)
	}
	return f.keep().Forget()
}
