package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/net/html"

	"morvant/internal/adapter"
	"morvant/internal/adapter/speak"
)

// placeAt returns where the versions at an address are.
func placeAt(address, own string) (place, error) {
	if u, err := url.Parse(address); err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" {
		return &web{base: u.JoinPath("/"), own: own}, nil
	}
	info, err := os.Stat(address)
	if err != nil || !info.IsDir() {
		return nil, fmt.Errorf("%s is not a folder; the address is a folder, or begins with https://", address)
	}
	return &folder{address}, nil
}

const (
	maxIndex = 16 << 20 // bytes of one listing
	maxDepth = 32       // folders in each other
	maxFiles = 1 << 20  // files of a version
	sumsFile = "SHA256SUMS"
)

// web is an index of a web server: the plain listing that web servers make of a folder.
type web struct {
	base *url.URL
	own  string
}

// get asks for something; anything but success is an error of the protocol.
func get(ctx context.Context, method string, u *url.URL, header http.Header) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, u.String(), nil)
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		req.Header[k] = v
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, speak.Error(adapter.CodeUnreachable, u.Host+" cannot be reached")
	}
	switch {
	case resp.StatusCode == http.StatusOK || resp.StatusCode == http.StatusPartialContent:
		return resp, nil
	case resp.StatusCode == http.StatusTooManyRequests || resp.StatusCode == http.StatusServiceUnavailable:
		seconds, _ := time.ParseDuration(resp.Header.Get("Retry-After") + "s")
		err = speak.Later(u.Host+" is busy", seconds)
	case resp.StatusCode == http.StatusNotFound:
		err = speak.Error(adapter.CodeNoBuild, u.Path+" is not there")
	default:
		err = fmt.Errorf("%s answers %d for %s", u.Host, resp.StatusCode, u.Path)
	}
	resp.Body.Close()
	return nil, err
}

// index lists the names in a folder; those of folders end with a slash.
func (w *web) index(ctx context.Context, dir *url.URL) ([]string, error) {
	resp, err := get(ctx, http.MethodGet, dir, nil)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	var names []string
	seen := make(map[string]bool)
	z := html.NewTokenizer(io.LimitReader(resp.Body, maxIndex))
	for {
		switch z.Next() {
		case html.ErrorToken:
			if errors.Is(z.Err(), io.EOF) {
				return names, nil
			}
			return nil, z.Err()
		case html.StartTagToken:
			t := z.Token()
			if t.Data != "a" {
				continue
			}
			for _, a := range t.Attr {
				if a.Key != "href" {
					continue
				}
				// Only what lies directly in this folder.
				at, err := dir.Parse(a.Val)
				if err != nil || at.Host != dir.Host || at.RawQuery != "" {
					continue
				}
				name, below := strings.CutPrefix(at.Path, dir.Path)
				if below && name != "" && !seen[name] && !strings.Contains(strings.TrimSuffix(name, "/"), "/") && !strings.HasPrefix(name, ".") {
					seen[name] = true
					names = append(names, name)
				}
			}
		}
	}
}

func (w *web) list(ctx context.Context) ([]*version, error) {
	names, err := w.index(ctx, w.base)
	if err != nil {
		return nil, err
	}
	var list []*version
	for _, name := range names {
		v, err := w.version(ctx, name)
		if err != nil {
			return nil, err
		}
		if v == nil {
			continue
		}
		if when, ok := dateIn(v.name); ok {
			v.when = when
		}
		list = append(list, v)
	}
	return list, nil
}

// version describes what a name stands for; nil: no version.
func (w *web) version(ctx context.Context, name string) (*version, error) {
	at := w.base.JoinPath(name)
	if dir, ok := strings.CutSuffix(name, "/"); ok {
		none := ""
		v := &version{name: dir, top: &none}
		var files []*file
		if err := w.files(ctx, w.base.JoinPath(dir+"/"), "", 0, &files, v); err != nil {
			return nil, err
		}
		v.walk = func(_ context.Context, visit func(*file) error) error {
			for _, f := range files {
				if err := visit(f); err != nil {
					return err
				}
			}
			return nil
		}
		return v, v.look()
	}
	short, end, ok := archiveName(name)
	if !ok {
		return nil, nil
	}
	resp, err := get(ctx, http.MethodHead, at, nil)
	if err != nil {
		return nil, err
	}
	resp.Body.Close()
	when, _ := http.ParseTime(resp.Header.Get("Last-Modified"))
	v := &version{name: short, when: when, mark: fmt.Sprint(at, resp.ContentLength, resp.Header.Get("ETag"), when)}
	v.walk = func(ctx context.Context, visit func(*file) error) error {
		if end == ".zip" && resp.Header.Get("Accept-Ranges") == "bytes" {
			return walkZip(ctx, &remote{ctx: ctx, at: at, size: resp.ContentLength}, resp.ContentLength, visit)
		}
		in, err := w.download(ctx, v, at)
		if err != nil {
			return err
		}
		defer in.Close()
		info, err := in.Stat()
		if err != nil {
			return err
		}
		return endings[end](ctx, in, info.Size(), visit)
	}
	// What is here as a whole can be read for digests as well.
	v.hash = end != ".zip"
	return v, nil
}

// files lists the files below a folder.
func (w *web) files(ctx context.Context, dir *url.URL, prefix string, depth int, into *[]*file, v *version) error {
	names, err := w.index(ctx, dir)
	if err != nil {
		return err
	}
	if depth > maxDepth || len(*into) > maxFiles {
		return fmt.Errorf("%s has folders without end", v.name)
	}
	for _, name := range names {
		at := dir.JoinPath(name)
		if below, ok := strings.CutSuffix(name, "/"); ok {
			if err := w.files(ctx, dir.JoinPath(below+"/"), prefix+name, depth+1, into, v); err != nil {
				return err
			}
			continue
		}
		if prefix == "" && name == sumsFile {
			if v.sums, err = w.sums(ctx, at); err != nil {
				return err
			}
			continue
		}
		resp, err := get(ctx, http.MethodHead, at, nil)
		if err != nil {
			return err
		}
		resp.Body.Close()
		when, _ := http.ParseTime(resp.Header.Get("Last-Modified"))
		if resp.ContentLength < 0 {
			return fmt.Errorf("%s does not tell how large %s is", dir.Host, at.Path)
		}
		*into = append(*into, &file{path: prefix + name, size: resp.ContentLength, when: when, program: strings.EqualFold(path.Ext(name), ".exe"), url: at.String()})
	}
	return nil
}

// sums reads a list of digests as sha256sum writes it.
func (w *web) sums(ctx context.Context, at *url.URL) (map[string]string, error) {
	resp, err := get(ctx, http.MethodGet, at, nil)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	sums := make(map[string]string)
	lines := bufio.NewScanner(io.LimitReader(resp.Body, maxIndex))
	for lines.Scan() {
		if sum, name, ok := strings.Cut(lines.Text(), " "); ok && len(sum) == 64 {
			sums[strings.TrimPrefix(strings.TrimLeft(name, " *"), "./")] = "sha256:" + strings.ToLower(sum)
		}
	}
	return sums, lines.Err()
}

// download brings an archive here, unless it is.
func (w *web) download(ctx context.Context, v *version, at *url.URL) (*os.File, error) {
	name := filepath.Join(w.own, "archives", v.manifestOf())
	if f, err := os.Open(name); err == nil {
		return f, nil
	}
	resp, err := get(ctx, http.MethodGet, at, nil)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return nil, err
	}
	out, err := os.Create(name + ".part")
	if err != nil {
		return nil, err
	}
	_, err = io.Copy(out, &telling{r: resp.Body, ctx: ctx, text: "Downloading " + v.name, total: resp.ContentLength})
	if err = errors.Join(err, out.Close()); err == nil {
		err = os.Rename(name+".part", name)
	}
	if err != nil {
		return nil, err
	}
	return os.Open(name)
}

// telling says how far a download is.
type telling struct {
	r           io.Reader
	ctx         context.Context
	text        string
	done, total int64
	told        int64
}

func (t *telling) Read(b []byte) (int, error) {
	n, err := t.r.Read(b)
	if t.done += int64(n); t.done-t.told > 1<<20 {
		t.told = t.done
		speak.Tell(t.ctx, t.text, t.done, max(t.total, 0))
	}
	return n, err
}

// remote reads a file of a web server by ranges, a block at a time.
type remote struct {
	ctx   context.Context
	at    *url.URL
	size  int64
	block []byte
	from  int64 // of block
}

// blockSize is how much is asked for at once.
const blockSize = 1 << 20

func (r *remote) ReadAt(b []byte, off int64) (int, error) {
	n := 0
	for n < len(b) {
		at := off + int64(n)
		if at >= r.size {
			return n, io.EOF
		}
		if at < r.from || at >= r.from+int64(len(r.block)) {
			if err := r.fetch(at); err != nil {
				return n, err
			}
		}
		n += copy(b[n:], r.block[at-r.from:])
	}
	return n, nil
}

func (r *remote) fetch(at int64) error {
	// The end of a zip is read first, and backwards.
	from := at
	if at+blockSize > r.size {
		from = max(0, min(at, r.size-blockSize))
	}
	to := min(r.size, from+blockSize)
	resp, err := get(r.ctx, http.MethodGet, r.at, http.Header{"Range": {fmt.Sprintf("bytes=%d-%d", from, to-1)}})
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusPartialContent {
		return fmt.Errorf("%s sends whole files only", r.at.Host)
	}
	b := make([]byte, to-from)
	if _, err := io.ReadFull(resp.Body, b); err != nil {
		return err
	}
	r.block, r.from = b, from
	return nil
}
