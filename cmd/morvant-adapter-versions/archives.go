package main

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/bodgit/sevenzip"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// endings are those of archives, and what reads them.
var endings = map[string]func(ctx context.Context, in io.ReaderAt, size int64, visit func(*file) error) error{
	".zip": walkZip, ".7z": walkSeven, ".tar": walkTar(plain), ".tar.gz": walkTar(ungzip), ".tgz": walkTar(ungzip), ".tar.zst": walkTar(unzstd),
}

// archiveName returns the name of a version that is an archive, and its ending.
func archiveName(name string) (string, string, bool) {
	for end := range endings {
		if len(name) > len(end) && strings.EqualFold(name[len(name)-len(end):], end) && !(end == ".tar" && name == end) {
			return name[:len(name)-len(end)], end, true
		}
	}
	return "", "", false
}

// errName is returned for what cannot be in an archive of a game.
var errName = errors.New("this archive has a name in it that leads elsewhere")

// clean makes a name in an archive one of the protocol's.
func clean(name string) (string, error) {
	p := strings.TrimPrefix(strings.ReplaceAll(name, `\`, "/"), "./")
	if p == "" || path.IsAbs(p) || path.Clean(p) != p || !fs.ValidPath(p) {
		return "", fmt.Errorf("%w: %q", errName, name)
	}
	return p, nil
}

func walkZip(_ context.Context, in io.ReaderAt, size int64, visit func(*file) error) error {
	z, err := zip.NewReader(in, size)
	if err != nil {
		return err
	}
	for _, e := range z.File {
		if err := entry(e.Name, e.Mode(), int64(e.UncompressedSize64), e.Modified, e.Open, visit); err != nil {
			return err
		}
	}
	return nil
}

func walkSeven(_ context.Context, in io.ReaderAt, size int64, visit func(*file) error) error {
	z, err := sevenzip.NewReader(in, size)
	if err != nil {
		return err
	}
	for _, e := range z.File {
		if err := entry(e.Name, e.Mode(), int64(e.UncompressedSize), e.Modified, e.Open, visit); err != nil {
			return err
		}
	}
	return nil
}

func plain(in io.Reader) (io.Reader, func(), error) { return in, func() {}, nil }

func ungzip(in io.Reader) (io.Reader, func(), error) {
	r, err := gzip.NewReader(in)
	return r, func() {}, err
}

func unzstd(in io.Reader) (io.Reader, func(), error) {
	r, err := zstd.NewReader(in, zstd.WithDecoderMaxWindow(256<<20))
	if err != nil {
		return nil, func() {}, err
	}
	return r, r.Close, nil
}

func walkTar(unpack func(io.Reader) (io.Reader, func(), error)) func(context.Context, io.ReaderAt, int64, func(*file) error) error {
	return func(_ context.Context, in io.ReaderAt, size int64, visit func(*file) error) error {
		unpacked, done, err := unpack(bufio.NewReaderSize(io.NewSectionReader(in, 0, size), 1<<20))
		if err != nil {
			return err
		}
		defer done()
		t := tar.NewReader(unpacked)
		for {
			h, err := t.Next()
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				return err
			}
			open := func() (io.ReadCloser, error) { return io.NopCloser(t), nil }
			if err := entry(h.Name, h.FileInfo().Mode(), h.Size, h.ModTime, open, visit); err != nil {
				return err
			}
		}
	}
}

// entry visits what an archive has under a name, if that is a file.
func entry(name string, mode fs.FileMode, size int64, when time.Time, open func() (io.ReadCloser, error), visit func(*file) error) error {
	if !mode.IsRegular() || strings.HasSuffix(name, "/") {
		return nil
	}
	p, err := clean(name)
	if err != nil {
		return err
	}
	return visit(&file{path: p, size: size, when: when, program: program(p, mode), open: open})
}

// program reports whether a file is to be executable. Archives from Windows do not say.
func program(p string, mode fs.FileMode) bool {
	return mode&0o111 != 0 && mode.IsRegular() && !strings.EqualFold(path.Ext(p), ".txt")
}

// folder is a folder of this computer, or a share.
type folder struct{ dir string }

func (f *folder) list(context.Context) ([]*version, error) {
	entries, err := os.ReadDir(f.dir)
	if err != nil {
		return nil, err
	}
	var list []*version
	for _, e := range entries {
		full := path.Join(f.dir, e.Name())
		info, err := os.Stat(full)
		if err != nil || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		v := &version{name: e.Name(), hash: true}
		if info.IsDir() {
			none := ""
			v.top = &none
			v.walk = func(_ context.Context, visit func(*file) error) error { return walkFolder(full, visit) }
			if err := v.look(); err != nil {
				return nil, err
			}
		} else {
			name, end, ok := archiveName(e.Name())
			if !ok || !info.Mode().IsRegular() {
				continue
			}
			v.name, v.when, v.mark = name, info.ModTime(), fmt.Sprint(e.Name(), info.Size(), info.ModTime().UnixNano())
			v.walk = func(ctx context.Context, visit func(*file) error) error {
				in, err := os.Open(full)
				if err != nil {
					return err
				}
				defer in.Close()
				return endings[end](ctx, in, info.Size(), visit)
			}
		}
		if when, ok := dateIn(v.name); ok {
			v.when = when
		}
		if !slices.ContainsFunc(list, func(o *version) bool { return o.name == v.name }) { // a folder before its archive
			list = append(list, v)
		}
	}
	return list, nil
}

// look finds the time of the newest file of a folder, and what tells whether anything has changed.
func (v *version) look() error {
	var mark strings.Builder
	err := v.walk(context.Background(), func(f *file) error {
		fmt.Fprintln(&mark, f.path, f.size, f.when.UnixNano())
		if f.when.After(v.when) {
			v.when = f.when
		}
		return nil
	})
	v.mark = mark.String()
	if v.when.IsZero() {
		v.when = time.Unix(0, 0)
	}
	return err
}

// walkFolder visits the files of a folder. Links are left out: where they lead is nobody's.
func walkFolder(dir string, visit func(*file) error) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	return fs.WalkDir(root.FS(), ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		open := func() (io.ReadCloser, error) { return root.Open(p) }
		return visit(&file{path: p, size: info.Size(), when: info.ModTime(), program: info.Mode()&0o111 != 0, open: open})
	})
}
