package adapter

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/manifest"
)

// Version is the version of the protocol that an adapter is asked for, and Newest the newest that is understood: those written for
// version 1 ignore what they do not know.
const (
	Version = 1
	Newest  = 2
)

// mostAtOnce bounds how many requests are under way at once.
const mostAtOnce = 16

// Limits on what an adapter may say.
const (
	MaxLine     = 64 << 20 // bytes of a message
	maxID       = 200      // characters of an id, a manifest, or what leads to the next page
	maxPages    = 10_000
	maxBuilds   = 10_000 // in one channel
	maxPieces   = 16 << 20
	maxMessages = 1_000_000 // while one answer is waited for
	maxText     = 500       // characters of a text for the player
)

// mostMessages is the limit that is asked; a test lowers it.
var mostMessages int64 = maxMessages

// Error codes of the protocol.
const (
	CodeSignIn      = -32001
	CodeNotOwned    = -32002
	CodeWrong       = -32003
	CodeLocked      = -32004
	CodeNoBuild     = -32005
	CodeLater       = -32006
	CodeUnreachable = -32007
)

// ErrProtocol is wrapped by every error about an adapter that does not keep to the protocol.
var ErrProtocol = errors.New("it does not keep to the protocol")

// Error is an error that an adapter answered with.
type Error struct {
	Adapter    string
	Code       int
	Message    string
	Components []string      // that are not owned
	After      time.Duration // when to ask again
}

func (e *Error) Error() string { return e.Message }

// Is reports whether err is an adapter's answer with a code.
func Is(err error, code int) bool {
	var e *Error
	return errors.As(err, &e) && e.Code == code
}

// InitializeParams open a session.
type InitializeParams struct {
	Protocol int    `json:"protocol"`
	Newest   int    `json:"newest"`
	Version  string `json:"version"`
	Game     string `json:"game"`
	Address  string `json:"address"`
	Folder   string `json:"folder"`
	Language string `json:"language"`
	Limit    int64  `json:"limit,omitempty"` // bytes a second that the player wants at most; 0: as fast as it goes
}

// Initialized is what an adapter says of itself.
type Initialized struct {
	Protocol int       `json:"protocol"`
	Name     string    `json:"name"`
	Title    string    `json:"title,omitempty"`
	SignIn   string    `json:"sign_in"`
	User     string    `json:"user,omitempty"`
	Channels []Channel `json:"channels"`
	// Since version 2: manifests cost a download, and how many requests may be under way at once (0: one).
	Dear   bool `json:"dear_manifests,omitempty"`
	AtOnce int  `json:"at_once,omitempty"`
}

// Channel is a line of builds.
type Channel struct {
	Name   string `json:"name"`
	Title  string `json:"title,omitempty"`
	Locked bool   `json:"locked,omitempty"`
}

// Values of Initialized.SignIn.
const (
	SignInNone     = "none"
	SignInOptional = "optional"
	SignInRequired = "required"
)

// BuildsParams ask for a page of builds.
type BuildsParams struct {
	Channel string `json:"channel"`
	Next    string `json:"next,omitempty"`
}

// Builds is a page of builds.
type Builds struct {
	Builds []Build `json:"builds"`
	Next   string  `json:"next,omitempty"`
}

// Build is a released state.
type Build struct {
	ID         string      `json:"id"`
	Label      string      `json:"label,omitempty"`
	Date       string      `json:"date,omitempty"`
	Note       string      `json:"note,omitempty"`
	Components []Component `json:"components"`
	Withdrawn  bool        `json:"withdrawn,omitempty"` // since version 2: it is listed, and nobody can fetch it any more
}

// Component is what a build has of one component.
type Component struct {
	Name     string `json:"name"`
	Manifest string `json:"manifest"`
	Title    string `json:"title,omitempty"`
	Required bool   `json:"required,omitempty"`
	Owned    *bool  `json:"owned,omitempty"` // missing: yes
	Files    int    `json:"files,omitempty"`
	Bytes    int64  `json:"bytes,omitempty"`
	Download int64  `json:"download,omitempty"`
}

// ManifestParams ask for a page of a manifest.
type ManifestParams struct {
	Build     string `json:"build,omitempty"`
	Component string `json:"component"`
	Manifest  string `json:"manifest"`
	Next      string `json:"next,omitempty"`
}

// Manifest is a page of a manifest, or all of it.
type Manifest struct {
	Files   []File   `json:"files"`
	Links   []Link   `json:"links,omitempty"`
	Folders []string `json:"folders,omitempty"`
	Next    string   `json:"next,omitempty"`
}

// File is a file of a manifest.
type File struct {
	Path       string  `json:"path"`
	Size       int64   `json:"size"`
	Digest     string  `json:"digest,omitempty"`
	Executable bool    `json:"executable,omitempty"`
	Modified   string  `json:"modified,omitempty"` // time of last change
	Pieces     []Piece `json:"pieces,omitempty"`
}

// Piece is a part of a file.
type Piece struct {
	Size   int64  `json:"size"`
	Digest string `json:"digest,omitempty"`
	Stored int64  `json:"stored,omitempty"` // bytes that come over the line
}

// Link is a symbolic link.
type Link struct {
	Path   string `json:"path"`
	Target string `json:"target"`
}

// ContentParams ask where pieces are.
type ContentParams struct {
	Build     string `json:"build,omitempty"`
	Component string `json:"component"`
	Manifest  string `json:"manifest"`
	Want      []Want `json:"want"`
}

// Want is a file, or pieces of it.
type Want struct {
	Path   string `json:"path"`
	Pieces []int  `json:"pieces,omitempty"` // missing: all
}

// Content says where pieces are.
type Content struct {
	Places  []Place `json:"places"`
	Expires string  `json:"expires,omitempty"`
}

// Place is where the bytes of one piece are.
type Place struct {
	Path    string            `json:"path"`
	Piece   int               `json:"piece,omitempty"`
	URL     string            `json:"url,omitempty"`
	Headers map[string]string `json:"headers,omitempty"`
	File    string            `json:"file,omitempty"`
	Offset  int64             `json:"offset,omitempty"`
	Length  int64             `json:"length,omitempty"`
	Coding  string            `json:"coding,omitempty"`
}

// SignInParams and the others that follow carry what is exchanged while somebody signs in.
type SignInParams struct {
	User string `json:"user,omitempty"`
}

// SignedIn says who has signed in.
type SignedIn struct {
	User string `json:"user"`
}

// UnlockParams name a channel.
type UnlockParams struct {
	Channel string `json:"channel"`
}

// Question is asked of the player.
type Question struct {
	Text   string `json:"text"`
	Secret bool   `json:"secret,omitempty"`
	Why    string `json:"why"` // user, password, code or key
}

// Answer is the player's.
type Answer struct {
	Answer string `json:"answer"`
}

// SecretParams name a secret; without a value it is forgotten.
type SecretParams struct {
	Name  string  `json:"name"`
	Value *string `json:"value,omitempty"`
}

// SecretValue is a secret that was kept.
type SecretValue struct {
	Value string `json:"value,omitempty"`
}

// Done says that files in the adapter's folder that places named have been read, and can go.
type Done struct {
	Files []string `json:"files"`
}

// Progress tells how far a long request is.
type Progress struct {
	Text  string `json:"text"`
	Done  int64  `json:"done,omitempty"`
	Total int64  `json:"total,omitempty"`
}

func checkID(what, s string) error {
	if s == "" || len([]rune(s)) > maxID {
		return fmt.Errorf("%s must have 1 to %d characters", what, maxID)
	}
	return catalogue.CheckText(s)
}

func (i *Initialized) check() error {
	if i.Protocol < Version || i.Protocol > Newest {
		return fmt.Errorf("it speaks version %d of the protocol, and this Morvant versions %d to %d", i.Protocol, Version, Newest)
	}
	if i.Protocol == 1 {
		i.Dear, i.AtOnce = false, 0
	}
	if i.AtOnce < 0 || i.AtOnce > mostAtOnce {
		return fmt.Errorf("it takes %d requests at once; up to %d are possible", i.AtOnce, mostAtOnce)
	}
	if err := errors.Join(catalogue.CheckName(i.Name), catalogue.CheckText(i.Title), catalogue.CheckText(i.User)); err != nil {
		return err
	}
	if i.SignIn != SignInNone && i.SignIn != SignInOptional && i.SignIn != SignInRequired {
		return fmt.Errorf("sign_in is \"%s\"; it must be none, optional or required", printable(i.SignIn))
	}
	seen := make(map[string]bool)
	for _, c := range i.Channels {
		if err := errors.Join(catalogue.CheckChannel(c.Name), catalogue.CheckText(c.Title)); err != nil {
			return err
		}
		if seen[c.Name] {
			return fmt.Errorf("the channel \"%s\" appears twice", c.Name)
		}
		seen[c.Name] = true
	}
	if len(i.Channels) == 0 || len(i.Channels) > 64 {
		return fmt.Errorf("it has %d channels; 1 to 64 are possible", len(i.Channels))
	}
	return nil
}

// When returns the date of the build; zero: it has none.
func (b *Build) When() time.Time {
	t, _ := time.Parse(time.RFC3339, b.Date)
	return t
}

func (b *Build) check() error {
	if err := checkID("a build's id", b.ID); err != nil {
		return err
	}
	name := "the build " + printable(b.ID)
	if b.Label != "" {
		if err := catalogue.CheckLabel(b.Label); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	if b.Date != "" {
		if t, err := time.Parse(time.RFC3339, b.Date); err != nil || t.Year() < 1678 || t.Year() > 2261 {
			return fmt.Errorf("%s has the date \"%s\"; it is written like 2031-08-05T17:00:00Z", name, printable(b.Date))
		}
	}
	if err := catalogue.CheckText(b.Note); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if len(b.Components) == 0 || len(b.Components) > 256 {
		return fmt.Errorf("%s has %d components; 1 to 256 are possible", name, len(b.Components))
	}
	seen := make(map[string]bool)
	for _, c := range b.Components {
		if err := errors.Join(catalogue.CheckName(c.Name), catalogue.CheckText(c.Title), checkID("a manifest", c.Manifest)); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if seen[c.Name] {
			return fmt.Errorf("%s has the component \"%s\" twice", name, c.Name)
		}
		if c.Files < 0 || c.Files > manifest.MaxEntries || c.Bytes < 0 || c.Bytes > manifest.MaxSize || c.Download < 0 || c.Download > manifest.MaxSize {
			return fmt.Errorf("%s has %d files of %d bytes, %d to fetch, in %s", name, c.Files, c.Bytes, c.Download, c.Name)
		}
		seen[c.Name] = true
	}
	return nil
}

// IsOwned reports whether the account has the component.
func (c *Component) IsOwned() bool { return c.Owned == nil || *c.Owned }

// check checks what stands in one page. The manifest as a whole is checked by Tree.
func (f *File) check() error {
	if err := manifest.CheckPath(f.Path); err != nil {
		return err
	}
	if f.Size < 0 || f.Size > manifest.MaxSize {
		return fmt.Errorf("%s has %d bytes", f.Path, f.Size)
	}
	if f.Digest != "" {
		if _, err := digest.ParseForeign(f.Digest); err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
	}
	if f.Modified != "" {
		if t, err := time.Parse(time.RFC3339, f.Modified); err != nil || t.Year() < 1678 || t.Year() > 2261 {
			return fmt.Errorf("%s has the time \"%s\"; it is written like 2031-08-05T17:00:00Z", f.Path, printable(f.Modified))
		}
	}
	var sum int64
	for _, p := range f.Pieces {
		if p.Size < 1 || p.Size > manifest.MaxSize || p.Stored < 0 || p.Stored > manifest.MaxSize {
			return fmt.Errorf("a piece of %s has %d bytes, %d stored", f.Path, p.Size, p.Stored)
		}
		if p.Digest != "" {
			if _, err := digest.ParseForeign(p.Digest); err != nil {
				return fmt.Errorf("a piece of %s: %w", f.Path, err)
			}
		}
		sum += p.Size
	}
	if len(f.Pieces) > 0 && sum != f.Size {
		return fmt.Errorf("the pieces of %s add up to %d bytes, and it has %d", f.Path, sum, f.Size)
	}
	return f.contradicts()
}

// Time returns when the file was last changed; zero: that is not known.
func (f *File) Time() time.Time {
	t, _ := time.Parse(time.RFC3339, f.Modified)
	return t
}

// Tree makes a manifest of Morvant's of what an adapter says. Content stands under what Teller.Name returns.
func (m *Manifest) Tree(by Teller) (*manifest.Manifest, error) {
	out := &manifest.Manifest{}
	for i := range m.Files {
		f := &m.Files[i]
		if f.Size == 0 {
			out.Files = append(out.Files, manifest.File{Path: f.Path, Digest: digest.Of(nil)})
			continue
		}
		out.Files = append(out.Files, manifest.File{Path: f.Path, Size: f.Size, Digest: by.Name(f)})
	}
	for _, l := range m.Links {
		out.Links = append(out.Links, manifest.Link(l))
	}
	out.EmptyDirs = append(out.EmptyDirs, m.Folders...)
	out.Sort()
	return out, out.Validate()
}

// Codings lists how bytes may be stored at a place.
var Codings = []string{"identity", "zstd", "gzip", "deflate", "brotli", "xz"}

// check checks a place. strong: every piece has a strong digest.
func (p *Place) check(strong bool) error {
	if (p.URL == "") == (p.File == "") {
		return errors.New("a place has either url or file")
	}
	if p.Offset < 0 || p.Length < 0 || p.Offset > manifest.MaxSize || p.Length > manifest.MaxSize {
		return fmt.Errorf("a place of %s is %d bytes at %d", printable(p.Path), p.Length, p.Offset)
	}
	if p.Coding != "" && !slices.Contains(Codings, p.Coding) {
		return fmt.Errorf("a place of %s has the coding \"%s\"; there is %s", printable(p.Path), printable(p.Coding), strings.Join(Codings, ", "))
	}
	if p.File != "" {
		if err := manifest.CheckPath(p.File); err != nil {
			return fmt.Errorf("a place: %w", err)
		}
		return nil
	}
	u, err := url.Parse(p.URL)
	if err != nil || u.Host == "" || u.User != nil {
		return fmt.Errorf("a place of %s is no web address", printable(p.Path))
	}
	ip := net.ParseIP(u.Hostname())
	here := u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
	switch {
	case u.Scheme == "https", u.Scheme == "http" && (here || strong && len(p.Headers) == 0):
	case u.Scheme == "http" && len(p.Headers) > 0:
		return fmt.Errorf("a place of %s would send secrets over plain HTTP", printable(p.Path))
	case u.Scheme == "http":
		return fmt.Errorf("a place of %s is plain HTTP, and its bytes have no strong digest", printable(p.Path))
	default:
		return fmt.Errorf("a place of %s is %s; only https, or http where every byte is checked", printable(p.Path), printable(u.Scheme))
	}
	for k, v := range p.Headers {
		if k == "" || strings.ContainsAny(k, " \t\r\n:") || strings.ContainsAny(v, "\r\n\x00") {
			return fmt.Errorf("a place of %s has a header that cannot be sent", printable(p.Path))
		}
	}
	return nil
}

// printable makes a text of somebody else fit for a terminal.
func printable(s string) string {
	s = strings.ToValidUTF8(s, " ")
	r := []rune(s)
	r = r[:min(len(r), maxText)]
	return strings.TrimSpace(strings.Map(func(c rune) rune {
		if catalogue.CheckText(string(c)) != nil {
			return ' '
		}
		return c
	}, string(r)))
}
