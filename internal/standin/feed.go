package standin

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"time"

	"aead.dev/minisign"

	"morvant/internal/catalogue"
	"morvant/internal/manifest"
	"morvant/internal/progress"
	"morvant/internal/publish"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/store"
)

// FeedName is what the harbour game's feed calls itself.
const FeedName = "quay-archive"

// Harbour is the account at the stand-in service: name and account.
const Harbour = "ada"

// HarbourAccount returns it. It does not own the expansion.
func HarbourAccount() Account {
	return Account{Password: "low tide at nine", Secret: "JBSWY3DPEHPK3PXP", Owns: []string{"base", "voices-en", "voices-fr"}}
}

// PreviewKey opens the locked channel.
const PreviewKey = "lantern-on-pier-seven"

// Feed says how the harbour game is published.
type Feed struct {
	Quay
	Key     minisign.PrivateKey
	SignIn  string // address that gives out tokens; empty: nobody has to sign in
	Locked  bool   // the preview channel
	Upto    string // the last build to publish; empty: all of them
	Valid   time.Duration
	Now     func() time.Time
	Without bool // content: manifests only
}

// Publish publishes the builds of Cinder Quay in dest. work is an empty folder for
// the builds while they are read.
func (f Feed) Publish(ctx context.Context, dest, work string) (*publish.Result, error) {
	s, err := store.Open(ctx, filepath.Join(work, "store"))
	if err != nil {
		return nil, err
	}
	defer s.Close()
	r := publish.Request{
		Dest: dest, Store: s, Key: f.Key, Name: FeedName, Game: "cinder-quay", SignIn: f.SignIn, Valid: f.Valid, ManifestsOnly: f.Without,
		Locked: map[string]bool{"preview": f.Locked}, Meter: progress.None{}, Now: f.Now,
	}
	for _, name := range Components() {
		r.Components = append(r.Components, catalogue.Component{Name: name, Required: name == "base"})
	}
	live := filepath.Join(work, "Cinder Quay")
	for _, release := range Releases() {
		if err := f.Write(live, release.Label); err != nil {
			return nil, err
		}
		b, err := record(ctx, s, live, release)
		if err != nil {
			return nil, err
		}
		r.Builds = append(r.Builds, *b)
		if release.Label == f.Upto {
			break
		}
	}
	return publish.Do(ctx, r)
}

// record puts a build into the store, divided into components.
func record(ctx context.Context, s *store.Store, live string, release Release) (*publish.Build, error) {
	root, err := os.OpenRoot(live)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	t, err := scan.Walk(ctx, root, rules.Rules{})
	if err != nil {
		return nil, err
	}
	session := s.Begin()
	err = t.Read(ctx, root, scan.Request{Sink: session.Put, Meter: progress.None{}, Now: time.Now})
	if err := errors.Join(err, session.Close()); err != nil {
		return nil, err
	}
	b := &publish.Build{Label: release.Label, Channel: release.Channel, Date: release.Date, Note: release.Note, Parts: make(map[string]*publish.Part)}
	for _, name := range Components() {
		m := t.Manifest().Without(func(p string) bool { return Component(p) != name })
		if len(m.Files) > 0 {
			b.Parts[name] = &publish.Part{Manifest: m, Programs: programs(t, m)}
		}
	}
	return b, nil
}

func programs(t *scan.Tree, m *manifest.Manifest) []string {
	var list []string
	for _, file := range m.Files {
		if e := t.Entry(file.Path); e != nil && e.Mode&0o111 != 0 {
			list = append(list, file.Path)
		}
	}
	return list
}
