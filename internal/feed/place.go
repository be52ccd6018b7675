package feed

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
)

// placed is one address that an adapter has named, with the headers that it wants sent there.
type placed struct {
	url    *url.URL
	header http.Header
	wire   *Wire
}

// Place returns the source at an address that an adapter has named. It has one file, whatever the path. An address that
// is nearer than the distributor is fence.ErrNear.
func (w *Wire) Place(ctx context.Context, u *url.URL, headers map[string]string) (Source, error) {
	if err := w.fence.Check(ctx, u); err != nil {
		return nil, err
	}
	h := http.Header{}
	for k, v := range headers {
		h.Set(k, v)
	}
	return &placed{u, h, w}, nil
}

// Within returns the source of files in a folder of this computer.
func (w *Wire) Within(dir string) Source { return &Folder{Dir: dir, wire: w} }

// String shows neither what stands behind a question mark nor headers: they may be secrets.
func (p *placed) String() string { return p.url.Scheme + "://" + p.url.Host + p.url.Path }

var errPlaced = errors.New("an adapter's place is no feed")

func (p *placed) get(context.Context, string, int64, validators) ([]byte, validators, error) {
	return nil, validators{}, errPlaced
}

func (p *placed) ranges(context.Context, string) (bool, error) { return true, nil }

func (p *placed) Open(ctx context.Context, _ string, from, to int64) (io.ReadCloser, int64, error) {
	header := p.header.Clone()
	header.Set("Range", fmt.Sprintf("bytes=%d-%d", from, to-1))
	resp, done, err := p.wire.do(ctx, http.MethodGet, p.url, header, nil)
	if err != nil {
		return nil, 0, err
	}
	body, at, err := ranged(resp, done, from)
	if resp.StatusCode == http.StatusUnauthorized {
		err = fmt.Errorf("%s: %w", p.url.Path, ErrSignIn)
	}
	return body, at, err
}
