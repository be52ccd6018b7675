package exchange

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/problem"
	"morvant/internal/progress"
	"morvant/internal/volume"
)

// Limits of what is read.
const (
	maxEntries = 2_000_000
	// maxRatio is how many times larger content may be than what it was packed into,
	// once it is larger than ratioFrom bytes: zeros come to about a thousand.
	maxRatio  = 1200
	ratioFrom = 1 << 30
	maxList   = 256 << 20 // bytes of a list of checksums
	maxLink   = 4096
	// endOfTime is the year from which on a time is not believed: disks and clocks cannot
	// hold it.
	endOfTime = 2200
	// maxWindow bounds the memory that a zstd stream may ask for, in bytes.
	maxWindow = 128 << 20
)

// Sink takes content and returns its digest and size.
type Sink func(ctx context.Context, r io.Reader, read func(n int)) (digest.Digest, int64, error)

// Import is a build to be read.
type Import struct {
	Inside string // only what is in this folder of it; empty or ".": all
	Sink   Sink
	Meter  progress.Meter
	// Doubles says that names which differ by letter case only can be held apart where this is to go.
	Doubles bool
	// Password asks for the password of an archive, again if that was wrong; nil: nobody can be asked.
	Password func(again bool) (string, error)
	// Self is this program, in a process of which archives are unpacked, see process.Contained; empty: in this one. A plain
	// tar is read here: there is nothing to unpack, and all its bytes would go through a pipe for nothing.
	Self string
}

// Imported is what was read.
type Imported struct {
	Manifest   *manifest.Manifest
	Attributes *manifest.Attributes
	// Private counts entries that were left out, as they are Morvant's own: it was made of a
	// folder that is managed.
	Private int
	// Lost are links of the part that was taken, to what is outside of it: they are left out.
	Lost []manifest.Link
}

func newImported() *Imported {
	return &Imported{Manifest: &manifest.Manifest{}, Attributes: manifest.NewAttributes()}
}

// In returns what is in a folder of it.
func (i *Imported) In(folder string) *Imported {
	out := newImported()
	out.Private = i.Private
	out.Lost = i.Lost
	for _, f := range i.Manifest.Files {
		if rest, ok := strings.CutPrefix(f.Path, folder+"/"); ok {
			out.Attributes.Files[rest] = i.Attributes.Files[f.Path]
			f.Path = rest
			out.Manifest.Files = append(out.Manifest.Files, f)
		}
	}
	for _, l := range i.Manifest.Links {
		rest, ok := strings.CutPrefix(l.Path, folder+"/")
		switch {
		case !ok:
		case manifest.CheckTarget(rest, l.Target) != nil:
			out.Lost = append(out.Lost, l)
		default:
			l.Path = rest
			out.Manifest.Links = append(out.Manifest.Links, l)
		}
	}
	for _, d := range i.Manifest.EmptyDirs {
		if rest, ok := strings.CutPrefix(d, folder+"/"); ok {
			out.Manifest.EmptyDirs = append(out.Manifest.EmptyDirs, rest)
		}
	}
	out.Manifest.Sort()
	return out
}

// private reports whether a path lies in a folder that is Morvant's own.
func private(p string) bool {
	return slices.ContainsFunc(strings.Split(p, "/"), func(name string) bool { return strings.EqualFold(name, manifest.PrivateDir) })
}

// reading is one import under way.
type reading struct {
	*Import
	ctx     context.Context
	to      taker
	entries int
	bytes   int64        // unpacked so far
	packed  func() int64 // read so far
	size    int64        // of the archive; 0: not known
	bomb    error        // it unpacks to too much: nothing more is read
}

// taker takes what is found in a source, in its order. Paths and targets have been checked.
type taker interface {
	file(p string, in io.Reader, a manifest.Attribute) error
	link(l manifest.Link) error
	lost(l manifest.Link) error // a link to what is outside of the part that is taken
	dir(p string) error
	same(p, from string) error // a file with the content of one before it
	private() error            // an entry that is Morvant's own, and left out
}

// Read reads the archive or bag at src. Its content is in the sink afterwards; if it
// returns an error, what is there belongs to nobody.
func (i *Import) Read(ctx context.Context, src string) (*Imported, error) {
	info, err := os.Stat(src)
	if err != nil {
		return nil, err
	}
	i.Meter.Begin("Reading", info.Size())
	defer i.Meter.End()
	if info.IsDir() {
		into := i.into(ctx)
		if err := (&reading{Import: i, ctx: ctx, to: into}).bag(src); err != nil {
			return nil, err
		}
		return into.finish()
	}
	password, apart := "", i.Self != "" && !plainTar(src)
	for try := 0; ; try++ {
		into := i.into(ctx)
		if apart {
			err = i.contained(ctx, src, password, into)
		} else {
			err = (&reading{Import: i, ctx: ctx, to: into}).file(src, password)
		}
		if err == nil {
			return into.finish()
		}
		if !errors.Is(err, ErrPassword) || errors.Is(err, errLockedZip) || i.Password == nil || try == passwordTries {
			return nil, err
		}
		// From the beginning: what has been read is in the sink, and costs no space again.
		if password, err = i.Password(try > 0); err != nil {
			return nil, err
		}
	}
}

// passwordTries is how often a password is asked for.
const passwordTries = 3

// into takes what is found into an Imported.
type into struct {
	*Import
	ctx  context.Context
	out  *Imported
	dirs []string
	at   map[string]int // of the files in the manifest
}

func (i *Import) into(ctx context.Context) *into {
	return &into{Import: i, ctx: ctx, out: newImported(), at: make(map[string]int)}
}

func (t *into) file(p string, in io.Reader, a manifest.Attribute) error {
	d, size, err := t.Sink(t.ctx, in, func(int) {})
	var said *told
	switch {
	case errors.As(err, &said):
		return said // it names the file
	case err != nil:
		return fmt.Errorf("%s: %w", p, cut(err))
	}
	t.add(manifest.File{Path: p, Size: size, Digest: d}, a)
	return t.ctx.Err()
}

func (t *into) add(f manifest.File, a manifest.Attribute) {
	t.at[f.Path] = len(t.out.Manifest.Files)
	t.out.Manifest.Files = append(t.out.Manifest.Files, f)
	t.out.Attributes.Files[f.Path] = a
}

func (t *into) same(p, from string) error {
	i, ok := t.at[from]
	if !ok {
		return fmt.Errorf("%w: %s is a copy of %s, which is not in it", ErrCut, p, from)
	}
	f := t.out.Manifest.Files[i]
	f.Path = p
	t.add(f, t.out.Attributes.Files[from])
	return nil
}

func (t *into) link(l manifest.Link) error {
	t.out.Manifest.Links = append(t.out.Manifest.Links, l)
	return nil
}

func (t *into) lost(l manifest.Link) error {
	t.out.Lost = append(t.out.Lost, l)
	return nil
}

func (t *into) dir(p string) error {
	t.dirs = append(t.dirs, p)
	return nil
}

func (t *into) private() error {
	t.out.Private++
	return nil
}

// finish checks what was read as a whole.
func (t *into) finish() (*Imported, error) {
	m := t.out.Manifest
	if len(m.Files)+len(m.Links) == 0 {
		return nil, fmt.Errorf("%w: there are no files in it", ErrFormat)
	}
	filled := make(map[string]bool)
	add := func(p string) {
		for d := path.Dir(p); d != "."; d = path.Dir(d) {
			filled[d] = true
		}
	}
	for _, f := range m.Files {
		add(f.Path)
	}
	for _, l := range m.Links {
		add(l.Path)
	}
	for _, d := range t.dirs {
		add(d)
	}
	slices.Sort(t.dirs)
	for _, d := range slices.Compact(t.dirs) {
		if !filled[d] {
			m.EmptyDirs = append(m.EmptyDirs, d)
		}
	}
	m.Sort()
	if err := m.Validate(); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrHostile, err)
	}
	if a, b, found := m.CaseConflict(); found && !t.Doubles {
		return nil, fmt.Errorf("%w: %s and %s differ by letter case only, which this disk cannot tell apart", ErrHostile, a, b)
	}
	return t.out, nil
}

// name returns the path of an entry; ok is false for what lies outside of Inside.
func (r *reading) name(raw string) (p string, ok bool, err error) {
	if r.entries++; r.entries > maxEntries {
		return "", false, fmt.Errorf("%w: more than %d entries", ErrHostile, maxEntries)
	}
	p = strings.TrimSuffix(strings.TrimPrefix(raw, "./"), "/")
	if p == "" || p == "." {
		return "", false, nil
	}
	if private(p) {
		return "", false, r.to.private()
	}
	if err := manifest.CheckPath(p); err != nil {
		return "", false, fmt.Errorf("%w: %w", ErrHostile, err)
	}
	inside := strings.Trim(r.Inside, "/")
	if inside == "" || inside == "." {
		return p, true, nil
	}
	p, ok = strings.CutPrefix(p, inside+"/")
	return p, ok, nil
}

// take reads the content of a file.
func (r *reading) take(p string, in io.Reader, mode fs.FileMode, when time.Time) error {
	a := manifest.Attribute{Mode: 0o644}
	if mode&0o111 != 0 {
		a.Mode = 0o755
	}
	if when.Unix() > 0 && when.Year() < endOfTime {
		a.MTime = when
	}
	return r.to.file(p, &bounded{r, in}, a)
}

func (r *reading) link(p, target string) error {
	if err := manifest.CheckTarget(p, target); err != nil {
		if inside := strings.Trim(r.Inside, "/"); inside != "" && inside != "." && manifest.CheckTarget(inside+"/"+p, target) == nil {
			return r.to.lost(manifest.Link{Path: p, Target: target})
		}
		return fmt.Errorf("%w: %w", ErrHostile, err)
	}
	return r.to.link(manifest.Link{Path: p, Target: target})
}

// bounded refuses content that grows out of all proportion to what it came from.
type bounded struct {
	r  *reading
	in io.Reader
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.r.bomb != nil {
		return 0, b.r.bomb
	}
	n, err := b.in.Read(p)
	if b.r.packed == nil {
		return n, err
	}
	// With an error that comes beside content, io.ReadFull would go on: nothing comes beside it.
	if bombErr := b.r.unpacks(int64(n), b.r.packed()); bombErr != nil {
		return 0, bombErr
	}
	return n, err
}

// unpacks counts bytes that come out of an archive of which so many have been read. Once
// that is out of all proportion it stays an error.
func (r *reading) unpacks(n, packed int64) error {
	if r.bytes += n; r.bytes > ratioFrom && r.bytes/maxRatio > packed {
		r.bomb = fmt.Errorf("%w: it unpacks to more than %d times its size", ErrHostile, maxRatio)
	}
	return r.bomb
}

// announced refuses a file that says itself that it is larger than anything honest in an
// archive of this size, before any of it is read.
func (r *reading) announced(p string, size int64) error {
	if size < 0 || size > ratioFrom && size/maxRatio > r.size {
		return fmt.Errorf("%w: %s claims %d bytes, more than %d times the size of the archive", ErrHostile, p, size, maxRatio)
	}
	return nil
}

// cut names what a reader says of an archive that ends too early or does not add up.
func cut(err error) error {
	switch {
	case errors.Is(err, ErrHostile), errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF), errors.Is(err, zip.ErrChecksum), errors.Is(err, zip.ErrFormat),
		errors.Is(err, tar.ErrHeader), errors.Is(err, zstd.ErrMagicMismatch), errors.Is(err, zstd.ErrCRCMismatch), errors.Is(err, zstd.ErrUnexpectedBlockSize):
		return fmt.Errorf("%w: %v", ErrCut, err)
	}
	return err
}

// apart returns an error if entries lie over each other: read as many times as it is named,
// a small archive would be a large one.
func apart(files []*zip.File) error {
	type span struct{ from, to int64 }
	spans := make([]span, 0, len(files))
	for _, e := range files {
		from, err := e.DataOffset()
		if err != nil {
			return cut(err)
		}
		size := int64(e.CompressedSize64)
		if size < 0 || from+size < from {
			return fmt.Errorf("%w: an entry of %d bytes", ErrHostile, e.CompressedSize64)
		}
		if size > 0 {
			spans = append(spans, span{from, from + size})
		}
	}
	slices.SortFunc(spans, func(a, b span) int { return cmp.Compare(a.from, b.from) })
	for i := 1; i < len(spans); i++ {
		if spans[i].from < spans[i-1].to {
			return fmt.Errorf("%w: its entries overlap", ErrHostile)
		}
	}
	return nil
}

func (r *reading) zipEntry(e *zip.File, p string, dir bool) error {
	if dir {
		return r.to.dir(p)
	}
	if err := r.announced(p, int64(e.UncompressedSize64)); err != nil {
		return err
	}
	in, err := e.Open()
	if err != nil {
		return fmt.Errorf("%s: %w", p, cut(err))
	}
	defer in.Close()
	return r.entry(p, e.Mode(), in, e.Modified)
}

// entry reads a file, a folder or a link of an archive.
func (r *reading) entry(p string, mode fs.FileMode, in io.Reader, when time.Time) error {
	switch {
	case mode.IsDir():
		return r.to.dir(p)
	case mode&fs.ModeSymlink != 0:
		target, err := io.ReadAll(io.LimitReader(in, maxLink))
		if err != nil {
			return fmt.Errorf("%s: %w", p, cut(err))
		}
		return r.link(p, string(target))
	case mode.IsRegular():
		return r.take(p, in, mode, when)
	}
	return fmt.Errorf("%w: %s is neither file nor folder nor link", ErrHostile, p)
}

// counted counts what is read, for the meter and the ratio.
type counted struct {
	in io.Reader
	n  int64
	r  *reading
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.in.Read(b)
	c.n += int64(n)
	c.r.Meter.Advance(int64(n), "")
	return n, err
}

// IsBag reports whether a folder is a BagIt folder.
func IsBag(dir string) (bool, error) {
	_, err := os.Stat(filepath.Join(dir, "bagit.txt"))
	if volume.Absent(err) {
		return false, nil
	}
	return err == nil, err
}

// bag reads a BagIt folder: every file of the payload must be listed and be as the
// list says, and every one listed must be there.
func (r *reading) bag(dir string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	if _, err := root.Stat("bagit.txt"); err != nil {
		return fmt.Errorf("%s: %w: it is a folder, but not a bag (for a game's folder use %s)", dir, ErrFormat, problem.AdoptFolder)
	}
	name, newHash := bagPayload, sha256.New
	b, err := readLimited(root, name)
	if errors.Is(err, fs.ErrNotExist) {
		name, newHash = "manifest-sha512.txt", sha512.New
		b, err = readLimited(root, name)
	}
	if err != nil {
		return fmt.Errorf("the bag's list: %w", err)
	}
	listed, err := ParseSums(b)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	seen := make(map[string]bool)
	for _, s := range listed {
		raw := unescapeBag(s.Path)
		rel, ok := strings.CutPrefix(raw, "data/")
		if !ok {
			return fmt.Errorf("%w: %s lists \"%s\", which is no payload", ErrHostile, name, s.Path)
		}
		seen[raw] = true
		p, ok, err := r.name(rel)
		if err != nil {
			return err
		}
		if !ok {
			continue
		}
		if err := r.bagFile(root, raw, p, s.Sum, newHash); err != nil {
			return err
		}
	}
	return fs.WalkDir(root.FS(), "data", func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && !seen[p] {
			return fmt.Errorf("%w: %s is not in the bag's list", ErrHostile, p)
		}
		return err
	})
}

func (r *reading) bagFile(root *os.Root, raw, p string, want []byte, newHash func() hash.Hash) error {
	info, err := root.Lstat(raw)
	if err != nil {
		return fmt.Errorf("%w: %s, which the list names: %v", ErrCut, p, err)
	}
	if !info.Mode().IsRegular() {
		return fmt.Errorf("%w: %s is no file", ErrHostile, p)
	}
	f, err := volume.OpenIn(root, raw)
	if err != nil {
		return err
	}
	defer f.Close()
	sum := newHash()
	if err := r.take(p, io.TeeReader(f, sum), info.Mode(), info.ModTime()); err != nil {
		return err
	}
	if !bytes.Equal(sum.Sum(nil), want) {
		return fmt.Errorf("%w: %s does not have the sum that the list says", ErrCut, p)
	}
	r.Meter.Advance(info.Size(), p)
	return nil
}

func unescapeBag(p string) string {
	return strings.NewReplacer("%0D", "\r", "%0d", "\r", "%0A", "\n", "%0a", "\n", "%25", "%").Replace(p)
}

func readLimited(root *os.Root, name string) ([]byte, error) {
	b, err := volume.ReadIn(root, name, maxList)
	if errors.Is(err, volume.ErrTooLarge) || errors.Is(err, volume.ErrNotRegular) {
		err = fmt.Errorf("%w: %w", ErrHostile, err)
	}
	return b, err
}

// Sum is a line of a list of checksums.
type Sum struct {
	Sum  []byte
	Path string
}

// ParseSums reads a list of checksums: a sum in hexadecimal, two spaces or a space
// and a star, a path.
func ParseSums(b []byte) ([]Sum, error) {
	var list []Sum
	for n, line := range strings.Split(strings.ReplaceAll(string(b), "\r\n", "\n"), "\n") {
		if line == "" {
			continue
		}
		sum, p, ok := strings.Cut(line, " ")
		raw, err := hex.DecodeString(sum)
		if !ok || err != nil || len(raw) < 16 || len(p) < 2 || len(list) > 0 && len(raw) != len(list[0].Sum) {
			return nil, fmt.Errorf("%w: line %d is no checksum and path", ErrFormat, n+1)
		}
		list = append(list, Sum{raw, strings.TrimPrefix(strings.TrimLeft(p, " "), "*")})
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%w: it lists nothing", ErrFormat)
	}
	return list, nil
}
