// Package exchange writes builds in open formats and reads them back: zip, tar with
// zstd, BagIt folders (RFC 8493), and lists of checksums as b3sum and sha256sum write
// them. Everything it reads is treated as hostile: every path is checked, sizes are
// bounded by what came in, nothing is written but to the store.
package exchange

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/progress"
	"morvant/internal/volume"
)

// The formats.
const (
	Zip        = "zip"
	TarZstd    = "tar.zst"
	BagIt      = "bagit"
	B3Sums     = "b3sums"
	SHA256Sums = "sha256sums"
	Folder     = "folder" // the files as they are, in a plain folder
)

// Formats lists the formats.
func Formats() []string { return []string{Zip, TarZstd, BagIt, Folder, B3Sums, SHA256Sums} }

// Errors that callers test for.
var (
	ErrFormat   = errors.New("this is in no format that Morvant can read")
	ErrHostile  = problem.New("this cannot be trusted", "Nothing of it was recorded. Get it again from somebody you trust")
	ErrPassword = errors.New("it is protected by a password")
	ErrCut      = problem.New("it is incomplete or damaged", "Nothing of it was recorded. Get it again from somebody you trust")
)

// Content writes the content of a file, by its digest.
type Content interface {
	WriteTo(ctx context.Context, w io.Writer, d digest.Digest) error
}

// Export is a build to be written.
type Export struct {
	Label      string
	Manifest   *manifest.Manifest
	Attributes *manifest.Attributes
	Content    Content
	Meter      progress.Meter
	Now        func() time.Time
}

// Write writes the build to the file or, for BagIt, the folder at dest. A file is
// there whole or not at all; a folder that was cut off is gone on with.
func (e *Export) Write(ctx context.Context, format, dest string) error {
	e.Meter.Begin("Writing", e.Manifest.Bytes())
	defer e.Meter.End()
	switch format {
	case BagIt:
		return e.bag(ctx, dest)
	case Folder:
		return e.folder(ctx, dest)
	}
	write := map[string]func(context.Context, io.Writer) error{
		Zip: e.zip, TarZstd: e.tarZstd, B3Sums: e.b3sums, SHA256Sums: e.sha256sums,
	}[format]
	if write == nil {
		return fmt.Errorf("%w: \"%s\", only %s", ErrFormat, format, strings.Join(Formats(), ", "))
	}
	if _, err := os.Lstat(dest); err == nil {
		return fmt.Errorf("%s: %w", dest, fs.ErrExist)
	}
	f, err := os.CreateTemp(filepath.Dir(dest), volume.PartPrefix+"*")
	if err != nil {
		return err
	}
	buffered := bufio.NewWriterSize(f, 1<<20)
	err = write(ctx, buffered)
	if err == nil {
		err = buffered.Flush()
	}
	if err = errors.Join(err, f.Chmod(0o644), f.Sync(), f.Close()); err == nil {
		err = process.Rename(f.Name(), dest)
	}
	if err != nil {
		os.Remove(f.Name())
		return err
	}
	return volume.SyncFolder(filepath.Dir(dest))
}

// time returns when a file was changed last, as far as that is known.
func (e *Export) time(path string) time.Time {
	if a, ok := e.Attributes.Files[path]; ok && !a.MTime.IsZero() {
		return a.MTime.UTC()
	}
	return time.Unix(0, 0).UTC()
}

// mode returns the permissions of a file; programs can be started.
func (e *Export) mode(path string) fs.FileMode {
	if a, ok := e.Attributes.Files[path]; ok && a.Mode != 0 {
		return fs.FileMode(a.Mode).Perm()
	}
	return 0o644
}

func (e *Export) file(ctx context.Context, w io.Writer, f manifest.File) error {
	if err := e.Content.WriteTo(ctx, progressWriter{w, e.Meter, f.Path}, f.Digest); err != nil {
		return fmt.Errorf("%s: %w", f.Path, err)
	}
	return ctx.Err()
}

type progressWriter struct {
	w     io.Writer
	meter progress.Meter
	path  string
}

func (p progressWriter) Write(b []byte) (int, error) {
	n, err := p.w.Write(b)
	p.meter.Advance(int64(n), p.path)
	return n, err
}

func (e *Export) zip(ctx context.Context, w io.Writer) error {
	z := zip.NewWriter(w)
	for _, d := range e.Manifest.EmptyDirs {
		if _, err := z.CreateHeader(&zip.FileHeader{Name: d + "/"}); err != nil {
			return err
		}
	}
	for _, f := range e.Manifest.Files {
		h := &zip.FileHeader{Name: f.Path, Method: zip.Deflate, Modified: e.time(f.Path)}
		h.SetMode(e.mode(f.Path))
		out, err := z.CreateHeader(h)
		if err != nil {
			return err
		}
		if err := e.file(ctx, out, f); err != nil {
			return err
		}
	}
	for _, l := range e.Manifest.Links {
		h := &zip.FileHeader{Name: l.Path}
		h.SetMode(fs.ModeSymlink | 0o777)
		out, err := z.CreateHeader(h)
		if err != nil {
			return err
		}
		if _, err := io.WriteString(out, l.Target); err != nil {
			return err
		}
	}
	return z.Close()
}

func (e *Export) tarZstd(ctx context.Context, w io.Writer) error {
	z, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedDefault))
	if err != nil {
		return err
	}
	t := tar.NewWriter(z)
	for _, d := range e.Manifest.EmptyDirs {
		if err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: d + "/", Mode: 0o755, Format: tar.FormatPAX}); err != nil {
			return err
		}
	}
	for _, f := range e.Manifest.Files {
		h := &tar.Header{Typeflag: tar.TypeReg, Name: f.Path, Size: f.Size, Mode: int64(e.mode(f.Path)), ModTime: e.time(f.Path), Format: tar.FormatPAX}
		if err := t.WriteHeader(h); err != nil {
			return err
		}
		if err := e.file(ctx, t, f); err != nil {
			return err
		}
	}
	for _, l := range e.Manifest.Links {
		if err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeSymlink, Name: l.Path, Linkname: l.Target, Mode: 0o777, Format: tar.FormatPAX}); err != nil {
			return err
		}
	}
	return errors.Join(t.Close(), z.Close())
}

func (e *Export) b3sums(_ context.Context, w io.Writer) error {
	for _, f := range e.Manifest.Files {
		if _, err := fmt.Fprintf(w, "%s  %s\n", f.Digest, f.Path); err != nil {
			return err
		}
	}
	return nil
}

func (e *Export) sha256sums(ctx context.Context, w io.Writer) error {
	for _, f := range e.Manifest.Files {
		sum := sha256.New()
		if err := e.file(ctx, sum, f); err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "%s  %s\n", hex.EncodeToString(sum.Sum(nil)), f.Path); err != nil {
			return err
		}
	}
	return nil
}

const (
	bagDeclaration = "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
	bagPayload     = "manifest-sha256.txt"
	bagTags        = "tagmanifest-sha256.txt"
)

// bag writes a BagIt folder. Files that are there already and right are not written
// again; the payload's list, which makes it a bag, comes last.
func (e *Export) bag(ctx context.Context, dest string) error {
	if len(e.Manifest.Links) > 0 {
		return fmt.Errorf("%w: a bag cannot hold links, and %s is one", ErrFormat, e.Manifest.Links[0].Path)
	}
	if list, err := os.ReadDir(dest); err == nil && len(list) > 0 {
		if _, err := os.Stat(filepath.Join(dest, "bagit.txt")); err != nil {
			return fmt.Errorf("%s: %w, and no bag", dest, fs.ErrExist)
		}
	}
	if err := os.MkdirAll(filepath.Join(dest, "data"), 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(dest)
	if err != nil {
		return err
	}
	defer root.Close()
	tags := map[string][]byte{"bagit.txt": []byte(bagDeclaration)}
	tags["bag-info.txt"] = fmt.Appendf(nil, "External-Identifier: %s\nBagging-Date: %s\nPayload-Oxum: %d.%d\n",
		e.Label, e.Now().UTC().Format(time.DateOnly), e.Manifest.Bytes(), len(e.Manifest.Files))
	if err := root.WriteFile("bagit.txt", tags["bagit.txt"], 0o644); err != nil {
		return err
	}
	var list []byte
	for _, f := range e.Manifest.Files {
		sum, err := e.bagFile(ctx, root, f)
		if err != nil {
			return err
		}
		list = fmt.Appendf(list, "%s  data/%s\n", sum, bagEscape(f.Path))
	}
	tags[bagPayload] = list
	var tagList []byte
	for _, name := range []string{"bag-info.txt", "bagit.txt", bagPayload} {
		tagList = fmt.Appendf(tagList, "%x  %s\n", sha256.Sum256(tags[name]), name)
	}
	tags[bagTags] = tagList
	for _, name := range []string{"bag-info.txt", bagTags, bagPayload} {
		if err := volume.Replace(filepath.Join(dest, name), tags[name], 0o644); err != nil {
			return err
		}
	}
	return nil
}

// folder writes the files into a plain folder. What is there already and the same stays; nothing
// else is replaced.
func (e *Export) folder(ctx context.Context, dest string) error {
	if err := volume.MkdirAll(dest, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(dest)
	if err != nil {
		return err
	}
	defer root.Close()
	there := make(map[string]bool) // and the same
	for _, f := range e.Manifest.Files {
		if _, err := root.Lstat(f.Path); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if is, _, err := sumOf(root, f.Path); err != nil || is != f.Digest {
			return fmt.Errorf("%s: %w, and not the same", filepath.Join(dest, filepath.FromSlash(f.Path)), fs.ErrExist)
		}
		there[f.Path] = true
	}
	for _, l := range e.Manifest.Links {
		if is, err := root.Readlink(l.Path); err == nil && is == l.Target {
			there[l.Path] = true
		} else if !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("%s: %w, and not the same", filepath.Join(dest, filepath.FromSlash(l.Path)), fs.ErrExist)
		}
	}
	for _, d := range e.Manifest.EmptyDirs {
		if err := root.MkdirAll(d, 0o755); err != nil {
			return err
		}
	}
	for _, f := range e.Manifest.Files {
		if there[f.Path] {
			e.Meter.Advance(f.Size, f.Path)
			continue
		}
		if err := e.place(ctx, root, f.Path, f, io.Discard); err != nil {
			return err
		}
	}
	for _, l := range e.Manifest.Links {
		if there[l.Path] {
			continue
		}
		if err := errors.Join(root.MkdirAll(path.Dir(l.Path), 0o755), root.Symlink(l.Target, l.Path)); err != nil {
			return err
		}
	}
	return nil
}

// sumOf reads a file and returns its digests.
func sumOf(root *os.Root, name string) (digest.Digest, []byte, error) {
	f, err := volume.OpenIn(root, name)
	if err != nil {
		return digest.Digest{}, nil, err
	}
	defer f.Close()
	is, sum := digest.NewHasher(), sha256.New()
	_, err = io.Copy(io.MultiWriter(is, sum), f)
	return is.Digest(), sum.Sum(nil), err
}

// place writes a file under a name, whole or not at all, and its content to w as well.
func (e *Export) place(ctx context.Context, root *os.Root, name string, f manifest.File, w io.Writer) error {
	if err := root.MkdirAll(path.Dir(name), 0o755); err != nil {
		return err
	}
	// Not named for the file, whose name may be as long as the disk allows.
	part := path.Join(path.Dir(name), volume.PartPrefix+"export")
	out, err := root.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, e.mode(f.Path))
	if err != nil {
		return err
	}
	err = e.file(ctx, io.MultiWriter(out, w), f)
	if err = errors.Join(err, out.Sync(), out.Close()); err == nil {
		err = volume.RenameIn(root, part, name)
	}
	if err != nil {
		root.Remove(part)
		return err
	}
	when := e.time(f.Path)
	return root.Chtimes(name, when, when)
}

// bagEscape writes a path as RFC 8493 wants it in a list.
func bagEscape(p string) string { return strings.ReplaceAll(p, "%", "%25") }

// bagFile writes one file of the payload, unless it is there, and returns its sum.
func (e *Export) bagFile(ctx context.Context, root *os.Root, f manifest.File) (string, error) {
	name := "data/" + f.Path
	if is, sum, err := sumOf(root, name); err == nil && is == f.Digest {
		e.Meter.Advance(f.Size, f.Path)
		return hex.EncodeToString(sum), nil
	}
	sum := sha256.New()
	err := e.place(ctx, root, name, f, sum)
	return hex.EncodeToString(sum.Sum(nil)), err
}
