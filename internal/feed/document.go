package feed

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
)

// Document fetches a small file from a web address: over https, or from this computer. limit bounds it, in
// bytes; one byte more comes of what is larger.
func Document(ctx context.Context, u *url.URL, limit int64, o Options) ([]byte, error) {
	if ip := net.ParseIP(u.Hostname()); u.Scheme != "https" && u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("%s: %w: only https, but for this computer", u, ErrAddress)
	}
	w := newWire(o)
	defer w.Close()
	resp, done, err := w.do(ctx, http.MethodGet, u, nil, nil)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", u.Redacted(), err)
	}
	defer done()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s: %w", u.Redacted(), failure(resp, u.Path))
	}
	return io.ReadAll(io.LimitReader(resp.Body, limit+1))
}
