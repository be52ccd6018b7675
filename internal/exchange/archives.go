package exchange

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"compress/bzip2"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"regexp"
	"strings"

	"github.com/bodgit/sevenzip"
	"github.com/klauspost/compress/zstd"
	"github.com/nwaples/rardecode/v2"
	"github.com/therootcompany/xz"

	"morvant/internal/problem"
	"morvant/internal/volume"
)

// The beginnings of files by which their format is known.
var (
	zipMagics   = []string{"PK\x03\x04", "PK\x05\x06"}
	zipParts    = "PK\x07\x08" // the first part of a zip in several
	sevenMagic  = "7z\xbc\xaf\x27\x1c"
	rarMagic    = "Rar!\x1a\x07"
	tarMagicAt  = 257
	tarMagic    = "ustar"
	headSize    = tarMagicAt + len(tarMagic)
	laterPart   = regexp.MustCompile(`(?i)(\.\d{3}|\.z\d\d|\.r\d\d|\.part\d+\.rar)$`)
	unpackedTar = map[string]func(io.Reader) (io.Reader, func(), error){
		"\x28\xb5\x2f\xfd": unzstd,
		"\x1f\x8b":         ungzip,
		"BZh":              unbzip2,
		"\xfd7zXZ\x00":     unxz,
	}
)

// maxDictionary bounds the memory, in bytes, that unpacking may take for what has been unpacked before.
const maxDictionary = 256 << 20

// ErrParts is returned for a part of an archive that is in several.
var ErrParts = problem.New("this is one part of an archive in several parts", "Name the first part; the others must be beside it. A zip in parts has to be put together first, or unpacked: import the folder then")

// errLockedZip is returned for a zip that asking for the password does not open.
var errLockedZip = fmt.Errorf("%w, and Morvant cannot open a zip with one: unpack it yourself and import the folder", ErrPassword)

// plainTar reports whether a file is a tar that nothing has packed.
func plainTar(src string) bool {
	f, err := volume.Open(src)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, headSize)
	n, _ := io.ReadFull(f, head)
	return n == headSize && string(head[tarMagicAt:]) == tarMagic
}

// file reads an archive of any format. password is for one that is encrypted.
func (r *reading) file(src, password string) error {
	f, err := volume.Open(src)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	r.size = info.Size()
	buf := make([]byte, headSize)
	n, _ := io.ReadFull(f, buf)
	head := string(buf[:n])
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	starts := func(magic string) bool { return strings.HasPrefix(head, magic) }
	switch {
	case starts(zipMagics[0]), starts(zipMagics[1]):
		return r.zip(f)
	case starts(sevenMagic):
		return guarded(func() error { return r.sevenZip(src, password) })
	case starts(rarMagic):
		return guarded(func() error { return r.rar(src, password) })
	case starts(zipParts):
		return ErrParts
	case len(head) == headSize && head[tarMagicAt:] == tarMagic:
		return r.tar(f, func(in io.Reader) (io.Reader, func(), error) { return in, func() {}, nil })
	}
	for magic, unpack := range unpackedTar {
		if starts(magic) {
			return r.tar(f, unpack)
		}
	}
	if laterPart.MatchString(src) {
		return fmt.Errorf("%w, and not the first", ErrParts)
	}
	return fmt.Errorf("%s: %w: it is no folder, zip, 7z, rar or tar (plain or with gzip, xz, zstd or bzip2)", src, ErrFormat)
}

func unzstd(in io.Reader) (io.Reader, func(), error) {
	z, err := zstd.NewReader(in, zstd.WithDecoderMaxWindow(maxWindow), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, nil, err
	}
	return z, z.Close, nil
}

func ungzip(in io.Reader) (io.Reader, func(), error) {
	z, err := gzip.NewReader(in)
	if err != nil {
		return nil, nil, err
	}
	return z, func() { z.Close() }, nil
}

func unbzip2(in io.Reader) (io.Reader, func(), error) { return bzip2.NewReader(in), func() {}, nil }

func unxz(in io.Reader) (io.Reader, func(), error) {
	z, err := xz.NewReader(in, maxDictionary)
	return z, func() {}, err
}

// tar reads a tar that unpack makes readable.
func (r *reading) tar(f *os.File, unpack func(io.Reader) (io.Reader, func(), error)) error {
	in := &counted{in: bufio.NewReaderSize(f, 1<<20), r: r}
	r.packed = func() int64 { return in.n }
	z, end, err := unpack(in)
	if err != nil {
		return cut(err)
	}
	defer end()
	t := tar.NewReader(z)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			// The end of the stream has its checksum.
			_, err := io.Copy(io.Discard, &bounded{r, z})
			return cut(err)
		}
		if err != nil {
			return cut(err)
		}
		p, ok, err := r.name(h.Name)
		if err != nil {
			return err
		}
		if !ok {
			continue
		}
		switch h.Typeflag {
		case tar.TypeDir:
			err = r.to.dir(p)
		case tar.TypeSymlink:
			err = r.link(p, h.Linkname)
		case tar.TypeReg:
			if err = r.announced(p, h.Size); err != nil {
				return err
			}
			err = r.take(p, t, fs.FileMode(h.Mode), h.ModTime)
		default:
			err = fmt.Errorf("%w: %s is neither file nor folder nor link", ErrHostile, p)
		}
		if err != nil {
			return err
		}
	}
}

// guarded turns a panic of a library over a damaged archive into an error.
func guarded(read func() error) (err error) {
	defer func() {
		if what := recover(); what != nil {
			err = fmt.Errorf("%w: %v", ErrCut, what)
		}
	}()
	return read()
}

// sevenZip reads a 7z.
func (r *reading) sevenZip(src, password string) error {
	encrypted := func(err error) error {
		var failed *sevenzip.ReadError
		if errors.As(err, &failed) && failed.Encrypted {
			return fmt.Errorf("%w (%v)", ErrPassword, failed.Err)
		}
		return damaged(err)
	}
	z, err := sevenzip.OpenReaderWithPassword(src, password)
	if err != nil {
		return encrypted(err)
	}
	defer z.Close()
	if err := r.wholeOf(z.Volumes()); err != nil {
		return err
	}
	var total, done int64
	for _, e := range z.File {
		if err := r.announced(e.Name, int64(e.UncompressedSize)); err != nil {
			return err
		}
		if total += int64(e.UncompressedSize); total < 0 {
			return fmt.Errorf("%w: its files have no end", ErrHostile)
		}
	}
	// How much of the archive a file takes is not said; so the whole of it counts from the beginning.
	r.packed = func() int64 { return r.size }
	for _, e := range z.File {
		p, ok, err := r.name(strings.ReplaceAll(e.Name, `\`, "/"))
		if err != nil {
			return err
		}
		if ok {
			in, err := e.Open()
			if err != nil {
				return encrypted(fmt.Errorf("%s: %w", p, err))
			}
			err = r.entry(p, e.Mode(), &failing{in, encrypted}, e.Modified)
			if err := errors.Join(err, in.Close()); err != nil {
				return err
			}
		}
		was := done
		done += int64(e.UncompressedSize)
		if total > 0 {
			r.Meter.Advance(int64(float64(r.size)*float64(done)/float64(total))-int64(float64(r.size)*float64(was)/float64(total)), p)
		}
	}
	return nil
}

// rar reads a rar.
func (r *reading) rar(src, password string) error {
	opts := []rardecode.Option{rardecode.MaxDictionarySize(maxDictionary)}
	if password != "" {
		opts = append(opts, rardecode.Password(password))
	}
	encrypted := func(err error) error {
		switch {
		case errors.Is(err, rardecode.ErrArchiveEncrypted), errors.Is(err, rardecode.ErrArchivedFileEncrypted), errors.Is(err, rardecode.ErrBadPassword),
			password != "" && errors.Is(err, rardecode.ErrBadFileChecksum):
			return fmt.Errorf("%w", ErrPassword)
		case errors.Is(err, rardecode.ErrDictionaryTooLarge):
			return fmt.Errorf("%w: unpacking it takes more than %d MiB of memory; unpack it yourself and import the folder", ErrFormat, maxDictionary>>20)
		case errors.Is(err, rardecode.ErrBadVolumeNumber), errors.Is(err, rardecode.ErrVerMismatch):
			return fmt.Errorf("%w, and not the first", ErrParts)
		}
		return damaged(err)
	}
	z, err := rardecode.OpenReader(src, opts...)
	if err != nil {
		return encrypted(err)
	}
	defer z.Close()
	r.packed = func() int64 { return r.size }
	for {
		h, err := z.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return encrypted(err)
		}
		if err := r.wholeOf(z.Volumes()); err != nil {
			return err
		}
		p, ok, err := r.name(strings.ReplaceAll(h.Name, `\`, "/"))
		if err != nil {
			return err
		}
		r.Meter.Advance(h.PackedSize, p)
		if !ok {
			continue
		}
		if !h.UnKnownSize {
			if err := r.announced(p, h.UnPackedSize); err != nil {
				return err
			}
		}
		if err := r.rarEntry(h, p, &failing{z, encrypted}); err != nil {
			return err
		}
	}
}

// How a rar says that an entry is another one's content, or leads to it.
const (
	rarUnixLink = 1 + iota
	rarWindowsLink
	rarJunction
	rarHardLink
	rarCopy
)

func (r *reading) rarEntry(h *rardecode.FileHeader, p string, in io.Reader) error {
	switch h.LinkType {
	case rarUnixLink, rarWindowsLink, rarJunction:
		return r.link(p, strings.ReplaceAll(h.LinkTarget, `\`, "/"))
	case rarHardLink, rarCopy:
		from, ok, err := r.name(strings.ReplaceAll(h.LinkTarget, `\`, "/"))
		if err != nil {
			return err
		}
		if !ok {
			return fmt.Errorf("%w: %s is a copy of %s, which is not in it", ErrCut, p, h.LinkTarget)
		}
		return r.to.same(p, from)
	}
	mode := h.Mode()
	if h.IsDir {
		mode |= fs.ModeDir
	}
	return r.entry(p, mode, in, h.ModificationTime)
}

// wholeOf counts the sizes of all parts of an archive.
func (r *reading) wholeOf(parts []string) error {
	if len(parts) < 2 {
		return nil
	}
	r.size = 0
	for _, part := range parts {
		info, err := os.Stat(part)
		if err != nil {
			return err
		}
		r.size += info.Size()
	}
	return nil
}

// failing names what a library says when reading fails.
type failing struct {
	in    io.Reader
	named func(error) error
}

func (f *failing) Read(b []byte) (int, error) {
	n, err := f.in.Read(b)
	if err != nil && !errors.Is(err, io.EOF) {
		err = f.named(err)
	}
	return n, err
}

// damaged names what a library says of an archive that it cannot make sense of.
func damaged(err error) error {
	switch {
	case errors.Is(err, ErrHostile), errors.Is(err, ErrPassword), errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%w: a part of it is missing (%v)", ErrCut, err)
	}
	return fmt.Errorf("%w: %v", ErrCut, err)
}

func (r *reading) zip(f *os.File) error {
	z, err := zip.NewReader(f, r.size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return cut(err)
	}
	var packed int64
	r.packed = func() int64 { return packed }
	if err := apart(z.File); err != nil {
		return err
	}
	for _, e := range z.File {
		raw := strings.ReplaceAll(e.Name, `\`, "/") // as some programs on Windows write
		p, ok, err := r.name(raw)
		if err != nil {
			return err
		}
		packed += int64(e.CompressedSize64)
		r.Meter.Advance(int64(e.CompressedSize64), p)
		if !ok {
			continue
		}
		if e.Flags&1 != 0 {
			return fmt.Errorf("%s: %w", p, errLockedZip)
		}
		if err := r.zipEntry(e, p, strings.HasSuffix(raw, "/")); err != nil {
			return err
		}
	}
	return nil
}
