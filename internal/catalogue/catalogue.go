// Package catalogue holds the files that a feed consists of: the feed's own
// description, its channels with their builds, manifests and layouts; how they
// are signed, named, packed and checked. Package publish writes them, package
// feed reads them.
//
// Everything read here comes from somebody else and is treated as hostile: sizes
// are bounded before anything is unpacked, unknown and repeated keys are refused,
// and every name is checked before it is used or shown.
package catalogue

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/go-json-experiment/json"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/problem"
)

// Formats and versions of the two signed files.
const (
	FeedFormat    = "morvant-feed/1"
	ChannelFormat = "morvant-channel/1"
)

// Limits on what is accepted.
const (
	MaxSigned     = 16 << 20  // bytes of one signed file
	MaxPacked     = 256 << 20 // bytes of a packed manifest or layout
	maxChannels   = 64
	maxBuilds     = 10_000 // in one channel
	maxComponents = 256    // in one build
	maxNote       = 1000   // bytes of a note
)

// NotTaken is the advice about a catalogue that is not believed.
const NotTaken = "Nothing of it was used; what was known before stays. Try again later, or ask the publisher"

// Errors that callers test for.
var (
	ErrFormat    = errors.New("not a file of a feed")
	ErrSignature = problem.New("the signature does not fit", NotTaken)
	ErrName      = errors.New("this name cannot be used")
)

// Feed describes a feed: the file feed.json.
type Feed struct {
	Format     string      `json:"format"`
	Name       string      `json:"name"`
	Game       string      `json:"game"`
	Key        string      `json:"key"`    // public key that signs feed and channels
	Serial     int64       `json:"serial"` // grows with every change
	Made       time.Time   `json:"made"`
	Expires    time.Time   `json:"expires"`
	Channels   []Line      `json:"channels"`
	Components []Component `json:"components"`
	SignIn     *SignIn     `json:"sign_in,omitempty"`
}

// Line is a channel in the description of its feed.
type Line struct {
	Name   string `json:"name"`
	Locked bool   `json:"locked,omitempty"` // its key must be given before it can be read
}

// Component is a part of the game that a feed publishes on its own.
type Component struct {
	Name     string `json:"name"`
	Title    string `json:"title,omitempty"`
	Required bool   `json:"required,omitempty"` // no build works without it
}

// SignIn says where tokens are given out.
type SignIn struct {
	Token string `json:"token"` // address that answers with a token
}

// Channel lists the builds of one channel: the file channels/NAME.json.
type Channel struct {
	Format  string    `json:"format"`
	Feed    string    `json:"feed"`
	Channel string    `json:"channel"`
	Serial  int64     `json:"serial"`
	Made    time.Time `json:"made"`
	Expires time.Time `json:"expires"`
	Builds  []Build   `json:"builds"` // the oldest first
}

// Build is one released state.
type Build struct {
	Label      string    `json:"label"`
	Date       time.Time `json:"date"`
	Note       string    `json:"note,omitempty"`
	Components []Part    `json:"components"` // sorted by name
	// ID is the name that a distributor has for it; Unlisted says that it lists the build no more, Withdrawn that it does, and does
	// not give it out. They are for the copy of what an adapter tells; no published channel has them.
	ID        string `json:"id,omitzero"`
	Unlisted  bool   `json:"unlisted,omitzero"`
	Withdrawn bool   `json:"withdrawn,omitzero"`
}

// Asked returns the id by which a distributor is asked for the build; empty where it does not list it.
func (b *Build) Asked() string {
	if b.Unlisted {
		return ""
	}
	return b.ID
}

// Part is what a build has of one component.
type Part struct {
	Name     string        `json:"name"`
	Manifest digest.Digest `json:"manifest"`
	Layout   digest.Digest `json:"layout,omitzero"` // none in a feed of manifests alone
	Files    int           `json:"files"`
	Bytes    int64         `json:"bytes"`              // of all files
	Download int64         `json:"download,omitempty"` // bytes to fetch for all of it
	// ID is the name that a distributor has for the manifest, and NotOwned says that the account does not have the
	// component: see Build.ID.
	ID       string `json:"id,omitzero"`
	NotOwned bool   `json:"not_owned,omitzero"`
	// Refused says why the distributor did not tell the manifest when it was asked; empty: it did, or was not asked. In copies only.
	Refused string `json:"refused,omitzero"`
	// Established counts the files by what their identity rests on. It stands in copies and records, and is never
	// published.
	Established Established `json:"established,omitzero"`
}

// Established counts files by how it was established what their content is: the catalogue that names it is signed; a
// distributor told a digest that names content wherever it comes from, a weak one (MD5, SHA-1), or none; or it was
// recorded on this computer.
type Established struct {
	Signed    int `json:"signed,omitzero"`
	Strong    int `json:"strong,omitzero"`
	Weak      int `json:"weak,omitzero"`
	Unchecked int `json:"unchecked,omitzero"`
	Recorded  int `json:"recorded,omitzero"`
}

// Plus adds two counts.
func (e Established) Plus(o Established) Established {
	return Established{e.Signed + o.Signed, e.Strong + o.Strong, e.Weak + o.Weak, e.Unchecked + o.Unchecked, e.Recorded + o.Recorded}
}

// Published returns an error if a channel has what only the copy of an adapter's has.
func (c *Channel) Published() error {
	for _, b := range c.Builds {
		if b.ID != "" || b.Unlisted || b.Withdrawn || slices.ContainsFunc(b.Components, func(p Part) bool {
			return p.ID != "" || p.NotOwned || p.Refused != "" || p.Established != Established{}
		}) {
			return fmt.Errorf("%w: the build \"%s\" has an id of a distributor", ErrFormat, b.Label)
		}
	}
	return nil
}

// Paths of a feed's files, relative to its address.
const FeedFile = "feed.json"

// SignatureOf returns the path of the signature of a signed file.
func SignatureOf(path string) string { return path + ".minisig" }

// ChannelFile returns the path of a channel.
func ChannelFile(name string) string { return "channels/" + name + ".json" }

// ManifestFile returns the path of a manifest.
func ManifestFile(d digest.Digest) string { return "manifests/" + d.String() + ".json.zst" }

// LayoutFile returns the path of a layout.
func LayoutFile(d digest.Digest) string { return "layouts/" + d.String() + ".json.zst" }

// PackFile returns the path of a pack.
func PackFile(d digest.Digest) string { return "packs/" + d.String() + ".pack" }

// isName reports whether s has at most 64 lower-case letters, digits and dashes, and begins with no dash.
func isName(s string) bool {
	return s != "" && len(s) <= 64 && s[0] != '-' && strings.Trim(s, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
}

// IsTitle reports whether s has at most so many letters, digits, dots, dashes, underscores, plus signs and single spaces, and
// begins with a letter or digit: so it can name a folder anywhere. By hand: as a pattern it took every command 3 ms to compile.
func IsTitle(s string, most int) bool {
	last := ' '
	for i, r := range s {
		switch {
		case unicode.IsLetter(r) || unicode.IsNumber(r):
		case i == 0:
			return false
		case r == ' ':
			if last == ' ' {
				return false
			}
		case !unicode.IsMark(r) && !strings.ContainsRune("._+-", r):
			return false
		}
		last = r
	}
	return last != ' ' && utf8.ValidString(s) && utf8.RuneCountInString(s) <= most
}

// CheckName returns an error unless s can name a feed, a channel, a component or a game.
func CheckName(s string) error {
	if !isName(s) {
		return fmt.Errorf("%w: \"%s\": lower-case letters, digits and dashes, at most 64", ErrName, s)
	}
	return nil
}

// SnapshotLine stands where a channel would be named, for builds that are no feed's.
const SnapshotLine = "snapshot"

// LaneLine stands where a channel would be named, for lanes.
const LaneLine = "lane"

// Words that stand for a build wherever one is named, and so are no labels.
const (
	Newest = "newest" // the newest build
	Before = "before" // the one before what is pinned, else before the newest
	Here   = "here"   // the folder as it is now
)

// CheckChannel returns an error unless s can name a channel: what it calls itself means
// nothing else where a build is named.
func CheckChannel(s string) error {
	if s == SnapshotLine || s == LaneLine {
		return fmt.Errorf("%w: \"%s\" already has a meaning where builds are named", ErrName, s)
	}
	return CheckName(s)
}

// CheckLabel returns an error unless s can be the label of a build.
func CheckLabel(s string) error {
	if s == Newest || s == Before || s == Here {
		return fmt.Errorf("%w: \"%s\" already has a meaning where builds are named", ErrName, s)
	}
	if !IsTitle(s, 80) {
		return fmt.Errorf("%w: \"%s\": a label has letters, digits, dots, dashes, underscores, plus signs and single spaces, at most 80, and starts with a letter or digit", ErrName, s)
	}
	return nil
}

// OfDate reports whether a label is made of a date, as a build without one is called: 2031-08-05, 2031-08-05.2.
func OfDate(label string, date time.Time) bool {
	number, ok := strings.CutPrefix(label, date.UTC().Format(time.DateOnly))
	return ok && (number == "" || number[0] == '.' && len(number) > 1 && strings.Trim(number[1:], "0123456789") == "")
}

// CheckText returns an error unless s is a line of text that can be shown: no
// control characters, not too long.
func CheckText(s string) error {
	if len(s) > maxNote || !utf8.ValidString(s) || strings.ContainsFunc(s, func(r rune) bool { return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) }) {
		return fmt.Errorf("%w: a text must be one line of at most %d bytes", ErrFormat, maxNote)
	}
	return nil
}

// Encode returns the file's bytes.
func (f *Feed) Encode() ([]byte, error) { return json.Marshal(f, json.Deterministic(true)) }

// Encode returns the file's bytes.
func (c *Channel) Encode() ([]byte, error) { return json.Marshal(c, json.Deterministic(true)) }

// decode reads JSON in which every key is known and none is repeated.
func decode(b []byte, into any) error {
	if err := json.Unmarshal(b, into, json.RejectUnknownMembers(true)); err != nil {
		return fmt.Errorf("%w: %v", ErrFormat, err)
	}
	return nil
}

// checkFormat tells a newer version from something else, before the rest is read:
// a newer version may have keys that this one does not know.
func checkFormat(b []byte, want ...string) error {
	var head struct {
		Format string `json:"format"`
	}
	if err := json.Unmarshal(b, &head); err != nil {
		return fmt.Errorf("%w: %v", ErrFormat, err)
	}
	if slices.Contains(want, head.Format) {
		return nil
	}
	name, _, _ := strings.Cut(want[0], "/")
	if strings.HasPrefix(head.Format, name+"/") {
		return fmt.Errorf("format \"%s\": %w", head.Format, problem.ErrNewer)
	}
	return fmt.Errorf("%w: format \"%s\" instead of \"%s\"", ErrFormat, head.Format, want[0])
}

// DecodeFeed reads and checks the description of a feed.
func DecodeFeed(b []byte) (*Feed, error) {
	if len(b) > MaxSigned {
		return nil, fmt.Errorf("%w: %d bytes", ErrFormat, len(b))
	}
	if err := checkFormat(b, FeedFormat); err != nil {
		return nil, err
	}
	f := &Feed{}
	if err := decode(b, f); err != nil {
		return nil, err
	}
	return f, f.check()
}

func (f *Feed) check() error {
	if err := errors.Join(CheckName(f.Name), CheckName(f.Game)); err != nil {
		return err
	}
	switch {
	case f.Serial < 1:
		return fmt.Errorf("%w: serial number %d", ErrFormat, f.Serial)
	case len(f.Channels) > maxChannels || len(f.Components) > maxComponents:
		return fmt.Errorf("%w: %d channels and %d components", ErrFormat, len(f.Channels), len(f.Components))
	}
	seen := make(map[string]bool)
	for _, c := range f.Channels {
		if err := CheckChannel(c.Name); err != nil {
			return err
		}
		if seen[c.Name] {
			return fmt.Errorf("%w: the channel \"%s\" appears twice", ErrFormat, c.Name)
		}
		seen[c.Name] = true
	}
	seen = make(map[string]bool)
	for _, c := range f.Components {
		if err := errors.Join(CheckName(c.Name), CheckText(c.Title)); err != nil {
			return err
		}
		if seen[c.Name] {
			return fmt.Errorf("%w: the component \"%s\" appears twice", ErrFormat, c.Name)
		}
		seen[c.Name] = true
	}
	return nil
}

// DecodeChannel reads and checks a channel.
func DecodeChannel(b []byte) (*Channel, error) {
	if len(b) > MaxSigned {
		return nil, fmt.Errorf("%w: %d bytes", ErrFormat, len(b))
	}
	if err := checkFormat(b, ChannelFormat); err != nil {
		return nil, err
	}
	c := &Channel{}
	if err := decode(b, c); err != nil {
		return nil, err
	}
	return c, c.check()
}

func (c *Channel) check() error {
	if err := errors.Join(CheckName(c.Feed), CheckChannel(c.Channel)); err != nil {
		return err
	}
	if c.Serial < 1 || len(c.Builds) > maxBuilds {
		return fmt.Errorf("%w: serial number %d, %d builds", ErrFormat, c.Serial, len(c.Builds))
	}
	seen := make(map[string]bool)
	for i := range c.Builds {
		b := &c.Builds[i]
		if err := b.check(); err != nil {
			return err
		}
		if seen[b.Label] {
			return fmt.Errorf("%w: the build \"%s\" appears twice", ErrFormat, b.Label)
		}
		seen[b.Label] = true
	}
	return nil
}

func (b *Build) check() error {
	if err := errors.Join(CheckLabel(b.Label), CheckText(b.Note), CheckText(b.ID)); err != nil {
		return err
	}
	// What can be counted in nanoseconds since 1970.
	if y := b.Date.Year(); y < 1678 || y > 2261 {
		return fmt.Errorf("%w: the build \"%s\" is of the year %d", ErrFormat, b.Label, y)
	}
	if len(b.Components) == 0 || len(b.Components) > maxComponents {
		return fmt.Errorf("%w: build \"%s\" has %d components", ErrFormat, b.Label, len(b.Components))
	}
	if !slices.IsSortedFunc(b.Components, func(x, y Part) int { return strings.Compare(x.Name, y.Name) }) {
		return fmt.Errorf("%w: the components of \"%s\" are not in order", ErrFormat, b.Label)
	}
	var files, bytes int64
	for i, p := range b.Components {
		if err := CheckName(p.Name); err != nil {
			return err
		}
		if i > 0 && p.Name == b.Components[i-1].Name {
			return fmt.Errorf("%w: the component \"%s\" of \"%s\" appears twice", ErrFormat, p.Name, b.Label)
		}
		if p.Files < 0 || p.Files > manifest.MaxEntries || p.Bytes < 0 || p.Bytes > manifest.MaxSize || p.Download < 0 || p.Download > manifest.MaxSize {
			return fmt.Errorf("%w: %d files of %d bytes, %d to fetch, in %s of \"%s\"", ErrFormat, p.Files, p.Bytes, p.Download, p.Name, b.Label)
		}
		files += int64(p.Files)
		bytes += p.Bytes
	}
	if files > manifest.MaxEntries || bytes > manifest.MaxSize {
		return fmt.Errorf("%w: %d files of %d bytes in \"%s\"", ErrFormat, files, bytes, b.Label)
	}
	return nil
}
