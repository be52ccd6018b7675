// Command morvant-adapter-versions is an adapter for Morvant: it speaks for a folder, a network share or a web index
// that has a sub-folder or an archive (zip, 7z, tar, tar.gz, tar.zst) for each version of a game.
//
//	morvant feed add --adapter versions "/games/old versions"
//	morvant feed add --adapter versions https://files.example/quay/
//
// Versions are called by the names of their folders or archives. A date in the name counts (2031-08-05, 20310805), else
// the time of the newest file, or of the archive. In a folder, the SHA-256 digest of each file is computed once and kept;
// a web index gives digests only where a version has a file SHA256SUMS, and what has none needs --unchecked. A zip on a
// web server is read by ranges; other archives there are downloaded whole, once.
package main

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"morvant/internal/adapter"
	"morvant/internal/adapter/speak"
	"morvant/internal/catalogue"
)

func main() {
	v := &versions{}
	err := speak.Serve(os.Stdin, os.Stdout, speak.Methods{Initialize: v.initialize, Builds: v.builds, Manifest: v.manifest, Content: v.content})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

const (
	channel   = "versions"
	component = "game"
	// atOnce is how many bytes are unpacked before they are handed over.
	atOnce = 256 << 20
)

// versions answers for one address.
type versions struct {
	folder string // its own
	place  place
	given  []string // files that were handed over last
}

// place is where versions are.
type place interface {
	// list finds the versions.
	list(ctx context.Context) ([]*version, error)
}

// version is one of them.
type version struct {
	name string
	when time.Time
	mark string // changes when its content may have
	// walk visits its files. open is good until visit returns.
	walk func(ctx context.Context, visit func(f *file) error) error
	sums map[string]string // SHA-256 of its files, if a list says; hashed: it is computed from the content
	hash bool
	top  *string // the one folder that everything in an archive lies in; nil: not known yet
}

// file is a file of a version.
type file struct {
	path    string
	size    int64
	when    time.Time
	program bool
	url     string // serves the file as it is; empty: none does
	open    func() (io.ReadCloser, error)
}

func (v *versions) initialize(_ context.Context, p adapter.InitializeParams) (*adapter.Initialized, error) {
	v.folder = p.Folder
	var err error
	if v.place, err = placeAt(p.Address, p.Folder); err != nil {
		return nil, err
	}
	return &adapter.Initialized{Protocol: adapter.Version, Name: "versions", Title: "A folder of versions", SignIn: adapter.SignInNone, Channels: []adapter.Channel{{Name: channel}}}, nil
}

var dated = regexp.MustCompile(`(?:^|\D)((?:19|20|21)\d\d)[-._]?(0[1-9]|1[0-2])[-._]?(0[1-9]|[12]\d|3[01])(?:\D|$)`)

// dateIn returns the date in a name.
func dateIn(name string) (time.Time, bool) {
	m := dated.FindStringSubmatch(name)
	if m == nil {
		return time.Time{}, false
	}
	t, err := time.Parse(time.DateOnly, strings.Join(m[1:], "-"))
	return t, err == nil
}

// manifestOf names what a version holds: it changes when that may have changed.
func (v *version) manifestOf() string {
	sum := sha256.Sum256([]byte(v.name + "\n" + v.mark))
	return hex.EncodeToString(sum[:16])
}

func (v *versions) builds(ctx context.Context, _ adapter.BuildsParams) (*adapter.Builds, error) {
	list, err := v.place.list(ctx)
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(list, func(a, b *version) int { return b.when.Compare(a.when) })
	r := &adapter.Builds{Builds: []adapter.Build{}}
	for _, o := range list {
		b := adapter.Build{ID: o.name, Date: o.when.UTC().Format(time.RFC3339), Components: []adapter.Component{{Name: component, Manifest: o.manifestOf(), Required: true}}}
		if catalogue.CheckLabel(o.name) == nil {
			b.Label = o.name
		}
		r.Builds = append(r.Builds, b)
	}
	return r, nil
}

// find returns the version that a manifest is of.
func (v *versions) find(ctx context.Context, id string) (*version, error) {
	list, err := v.place.list(ctx)
	if err != nil {
		return nil, err
	}
	for _, o := range list {
		if o.manifestOf() == id {
			return o, nil
		}
	}
	return nil, speak.Error(adapter.CodeNoBuild, "this version is gone, or has changed since it was listed; refresh the feed")
}

func (v *versions) kept(id string) string { return filepath.Join(v.folder, "known", id+".json") }

func (v *versions) manifest(ctx context.Context, p adapter.ManifestParams) (*adapter.Manifest, error) {
	r := &adapter.Manifest{}
	if b, err := os.ReadFile(v.kept(p.Manifest)); err == nil && json.Unmarshal(b, r) == nil {
		return r, nil
	}
	o, err := v.find(ctx, p.Manifest)
	if err != nil {
		return nil, err
	}
	var done int64
	err = o.each(ctx, func(f *file) error {
		out := adapter.File{Path: f.path, Size: f.size, Executable: f.program, Digest: o.sums[f.path]}
		if !f.when.IsZero() {
			out.Modified = f.when.UTC().Format(time.RFC3339Nano)
		}
		if o.hash {
			in, err := f.open()
			if err != nil {
				return err
			}
			defer in.Close()
			h := sha256.New()
			n, err := io.Copy(h, in)
			if err != nil {
				return fmt.Errorf("%s: %w", f.path, err)
			}
			out.Size, out.Digest = n, digestOf(h)
			done += n
			speak.Tell(ctx, "Reading "+o.name, done, 0)
		}
		r.Files = append(r.Files, out)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", o.name, err)
	}
	b, err := json.Marshal(r)
	if err == nil {
		err = errors.Join(os.MkdirAll(filepath.Dir(v.kept(p.Manifest)), 0o700), os.WriteFile(v.kept(p.Manifest), b, 0o600))
	}
	return r, err
}

func digestOf(h hash.Hash) string { return "sha256:" + hex.EncodeToString(h.Sum(nil)) }

// each visits the files of a version, without the one folder that everything in an archive lies in.
func (v *version) each(ctx context.Context, visit func(f *file) error) error {
	if v.top == nil {
		top, first := "", true
		err := v.walk(ctx, func(f *file) error {
			dir, _, below := strings.Cut(f.path, "/")
			switch {
			case !below:
				top, first = "", false
			case first:
				top, first = dir+"/", false
			case top != dir+"/":
				top = ""
			}
			return nil
		})
		if err != nil {
			return err
		}
		v.top = &top
	}
	return v.walk(ctx, func(f *file) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		f.path = strings.TrimPrefix(f.path, *v.top)
		return visit(f)
	})
}

// errEnough ends a walk.
var errEnough = errors.New("enough")

func (v *versions) content(ctx context.Context, p adapter.ContentParams) (*adapter.Content, error) {
	for _, name := range v.given { // they have been taken
		_ = os.Remove(name)
	}
	v.given = nil
	o, err := v.find(ctx, p.Manifest)
	if err != nil {
		return nil, err
	}
	left := make(map[string]bool)
	for _, w := range p.Want {
		left[w.Path] = true
	}
	out := filepath.Join(v.folder, "out")
	if err := os.MkdirAll(out, 0o700); err != nil {
		return nil, err
	}
	r := &adapter.Content{}
	var bytes int64
	err = o.each(ctx, func(f *file) error {
		if !left[f.path] {
			return nil
		}
		delete(left, f.path)
		if f.url != "" {
			r.Places = append(r.Places, adapter.Place{Path: f.path, URL: f.url})
		} else {
			name := fmt.Sprintf("out/%d", len(v.given))
			full := filepath.Join(v.folder, filepath.FromSlash(name))
			if err := put(f, full); err != nil {
				return fmt.Errorf("%s: %w", f.path, err)
			}
			v.given = append(v.given, full)
			r.Places = append(r.Places, adapter.Place{Path: f.path, File: name})
			bytes += f.size
		}
		if len(left) == 0 || bytes >= atOnce {
			return errEnough
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return nil, fmt.Errorf("%s: %w", o.name, err)
	}
	return r, nil
}

// put writes a file to where Morvant takes it.
func put(f *file, name string) (err error) {
	in, err := f.open()
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	_, err = io.Copy(out, in)
	return err
}
