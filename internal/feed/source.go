package feed

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"morvant/internal/catalogue"
	"morvant/internal/problem"
	"morvant/internal/volume"
)

// Errors that callers test for.
var (
	ErrAddress  = errors.New("this cannot be the address of a feed")
	ErrMissing  = errors.New("not there")
	ErrSignIn   = errors.New("the feed asks you to sign in")
	ErrShort    = problem.New("less arrived than the server announced", "What has arrived is kept; run the command again to continue")
	ErrSilent   = problem.New("the server has stopped answering", "What has arrived is kept; run the command again to continue")
	ErrInsecure = problem.New("passwords and keys are not sent over plain HTTP", "Use an address that begins with https")
)

// DeniedError says that the account may not have something.
type DeniedError struct {
	What string // from the service, for people
}

func (e *DeniedError) Error() string { return "refused: " + e.What }

// BusyError says that the service cannot answer now.
type BusyError struct {
	Status int
	After  time.Duration // when to ask again; 0: not said
}

func (e *BusyError) Error() string {
	return fmt.Sprintf("the service is busy (HTTP %d)", e.Status)
}

// validators says which version of a file is known, for conditional requests.
type validators struct {
	ETag     string `json:"etag,omitempty"`
	Modified string `json:"modified,omitempty"`
}

// errUnchanged answers a conditional request.
var errUnchanged = errors.New("unchanged")

// Source is one place that a feed is read from.
type Source interface {
	// get returns a whole file of at most limit bytes, or errUnchanged if it is
	// the version that is known.
	get(ctx context.Context, path string, limit int64, known validators) ([]byte, validators, error)
	// Open returns the bytes of a file between from and to. at is where the
	// stream begins: a server that ignores ranges begins at 0. See IgnoresRanges.
	Open(ctx context.Context, path string, from, to int64) (body io.ReadCloser, at int64, err error)
	// ranges reports whether the server sends parts of a file. It asks without fetching the file.
	ranges(ctx context.Context, path string) (bool, error)
	// String returns the address, for messages.
	String() string
}

// IgnoresRanges reports whether an answer that begins at at shows that the server sends whole files
// only, where the bytes from from on were asked for.
func IgnoresRanges(at, from int64) bool { return at == 0 && from > 0 }

// probeTime is how long a server may take to show whether it sends parts of files.
const probeTime = 5 * time.Second

// OnlyWhole finds out whether all of the sources that answer send whole files only. It asks for the
// head of one byte of the feed's description; if that is of all of it, of the file at path too.
func OnlyWhole(ctx context.Context, sources []Source, path string) bool {
	ctx, cancel := context.WithTimeout(ctx, probeTime)
	defer cancel()
	none := false
	for _, s := range sources {
		for _, p := range []string{catalogue.FeedFile, path} {
			ranges, err := s.ranges(ctx, p)
			if err != nil {
				break // not now: the fetch will tell
			}
			if ranges {
				return false
			}
			none = p == path
		}
	}
	return none
}

// newSource returns the source at an address: http(s)://, file:// or a folder.
func newSource(address string, w *Wire) (Source, error) {
	u, err := url.Parse(address)
	if err == nil && (u.Scheme == "http" || u.Scheme == "https") {
		if u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" {
			return nil, fmt.Errorf("%w: %s: it needs a host, and must have no name, password or query", ErrAddress, u.Redacted())
		}
		return &web{base: u.JoinPath("/"), wire: w}, nil
	}
	dir := address
	if err == nil && u.Scheme == "file" {
		dir = filepath.FromSlash(u.Path)
		switch share := `\\` + u.Host + dir; {
		case u.Host == "" || u.Host == "localhost":
		case filepath.VolumeName(share) != "":
			dir = share // file://server/share/feed
		default:
			return nil, fmt.Errorf("%w: %s: a file address has three slashes", ErrAddress, address)
		}
		if drive := strings.TrimLeft(dir, `\/`); filepath.VolumeName(drive) != "" {
			dir = drive // file:///C:/feed
		}
	} else if strings.Contains(address, "://") {
		return nil, fmt.Errorf("%w: %s: http://, https://, file:// or a folder", ErrAddress, address)
	}
	info, err := os.Stat(dir)
	if err != nil || !info.IsDir() {
		return nil, fmt.Errorf("%w: %s is not a folder", ErrAddress, dir)
	}
	return &Folder{Dir: dir, wire: w}, nil
}

// Folder is a feed in a folder of this computer, or one that looks like that.
type Folder struct {
	Dir  string
	wire *Wire
}

func (f *Folder) String() string { return f.Dir }

func (f *Folder) file(ctx context.Context, path string) (*os.File, fs.FileInfo, error) {
	if err := ctx.Err(); err != nil {
		return nil, nil, err
	}
	root, err := os.OpenRoot(f.Dir)
	if err != nil {
		return nil, nil, err
	}
	defer root.Close()
	file, err := volume.OpenIn(root, filepath.FromSlash(path))
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, volume.ErrNotRegular) {
		return nil, nil, fmt.Errorf("%s: %w", path, ErrMissing)
	}
	if err != nil {
		return nil, nil, err
	}
	info, err := file.Stat()
	if err != nil {
		return nil, nil, errors.Join(err, file.Close())
	}
	return file, info, nil
}

func (f *Folder) get(ctx context.Context, path string, limit int64, known validators) ([]byte, validators, error) {
	file, info, err := f.file(ctx, path)
	if err != nil {
		return nil, validators{}, err
	}
	defer file.Close()
	m := validators{Modified: fmt.Sprintf("%d %d", info.ModTime().UnixNano(), info.Size())}
	if known == m {
		return nil, m, errUnchanged
	}
	b, err := readAll(file, path, limit)
	return b, m, err
}

func (f *Folder) ranges(context.Context, string) (bool, error) { return true, nil }

func (f *Folder) Open(ctx context.Context, path string, from, to int64) (io.ReadCloser, int64, error) {
	file, _, err := f.file(ctx, path)
	if err != nil {
		return nil, 0, err
	}
	body := f.wire.limit.slow(ctx, io.NewSectionReader(file, from, to-from))
	return struct {
		io.Reader
		io.Closer
	}{&counting{body, f.wire}, file}, from, nil
}

// counting counts what is read as received.
type counting struct {
	r    io.Reader
	wire *Wire
}

func (c *counting) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.wire.Received.Add(int64(n))
	return n, err
}

func readAll(r io.Reader, path string, limit int64) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(b)) > limit {
		err = fmt.Errorf("%s: %w: more than %d bytes", path, ErrHostile, limit)
	}
	return b, err
}

// ErrHostile is returned for what no honest feed sends.
var ErrHostile = errors.New("the feed sends something that it must not")

// web is a feed on a web server.
type web struct {
	base *url.URL
	wire *Wire
}

func (s *web) String() string { return s.base.String() }

func (s *web) get(ctx context.Context, path string, limit int64, known validators) ([]byte, validators, error) {
	header := http.Header{}
	if known.ETag != "" {
		header.Set("If-None-Match", known.ETag)
	}
	if known.Modified != "" {
		header.Set("If-Modified-Since", known.Modified)
	}
	resp, done, err := s.ask(ctx, http.MethodGet, path, header)
	if err != nil {
		return nil, validators{}, err
	}
	defer done()
	m := validators{ETag: resp.Header.Get("ETag"), Modified: resp.Header.Get("Last-Modified")}
	switch {
	case resp.StatusCode == http.StatusNotModified && known != validators{}:
		return nil, m, errUnchanged
	case resp.StatusCode != http.StatusOK:
		return nil, m, failure(resp, path)
	}
	if resp.ContentLength > limit {
		return nil, m, fmt.Errorf("%s: %w: %d bytes", path, ErrHostile, resp.ContentLength)
	}
	b, err := readAll(resp.Body, path, limit)
	if err != nil {
		return nil, m, broken(err)
	}
	return b, m, nil
}

func (s *web) ranges(ctx context.Context, path string) (bool, error) {
	resp, done, err := s.ask(ctx, http.MethodHead, path, http.Header{"Range": {"bytes=1-1"}})
	if err != nil {
		return false, err
	}
	defer done()
	switch resp.StatusCode {
	case http.StatusPartialContent:
		return true, nil
	case http.StatusOK:
		return resp.Header.Get("Accept-Ranges") == "bytes", nil
	}
	return false, failure(resp, path)
}

func (s *web) Open(ctx context.Context, path string, from, to int64) (io.ReadCloser, int64, error) {
	header := http.Header{}
	header.Set("Range", fmt.Sprintf("bytes=%d-%d", from, to-1))
	resp, done, err := s.ask(ctx, http.MethodGet, path, header)
	if err != nil {
		return nil, 0, err
	}
	return ranged(resp, done, from)
}

// ranged returns the body of an answer to a request for a part of a file, and where it begins.
func ranged(resp *http.Response, done func(), from int64) (body io.ReadCloser, at int64, err error) {
	switch resp.StatusCode {
	case http.StatusOK:
	case http.StatusPartialContent:
		if at, err = rangeStart(resp.Header.Get("Content-Range")); err != nil || at > from {
			done()
			return nil, 0, fmt.Errorf("%s: %w: the range \"%s\" where the bytes from %d on were asked for", resp.Request.URL.Path, ErrHostile, resp.Header.Get("Content-Range"), from)
		}
	default:
		defer done()
		return nil, 0, failure(resp, resp.Request.URL.Path)
	}
	return struct {
		io.Reader
		io.Closer
	}{resp.Body, closer(done)}, at, nil
}

type closer func()

func (c closer) Close() error { c(); return nil }

// rangeStart reads the first byte of "bytes 200-1000/67589".
func rangeStart(s string) (int64, error) {
	s, ok := strings.CutPrefix(s, "bytes ")
	first, _, found := strings.Cut(s, "-")
	if !ok || !found {
		return 0, ErrHostile
	}
	return strconv.ParseInt(first, 10, 64)
}

// ask sends a request, signed in if this place may know who asks. A token that is
// not accepted any more is renewed once.
func (s *web) ask(ctx context.Context, method, path string, header http.Header) (*http.Response, func(), error) {
	for again := false; ; again = true {
		token, err := s.wire.token(ctx, s.base, again)
		if err != nil {
			return nil, nil, err
		}
		if token != "" {
			header.Set("Authorization", "Bearer "+token)
		}
		resp, done, err := s.wire.do(ctx, method, s.base.JoinPath(path), header, nil)
		if err != nil {
			return nil, nil, err
		}
		if resp.StatusCode == http.StatusUnauthorized {
			done()
			if token != "" && !again {
				continue
			}
			return nil, nil, fmt.Errorf("%s: %w", path, ErrSignIn)
		}
		return resp, done, nil
	}
}

// failure turns an answer that is no success into an error.
func failure(resp *http.Response, path string) error {
	switch code := resp.StatusCode; {
	case code == http.StatusNotFound || code == http.StatusGone:
		return fmt.Errorf("%s: %w", path, ErrMissing)
	case code == http.StatusForbidden:
		return &DeniedError{details(resp)}
	case code == http.StatusTooManyRequests || code >= 500:
		return &BusyError{code, retryAfter(resp.Header.Get("Retry-After"), time.Now())}
	default:
		return fmt.Errorf("%s: the server answers HTTP %d", path, code)
	}
}

// details reads problem details (RFC 9457), as far as they can be shown.
func details(resp *http.Response) string {
	var p struct {
		Title  string `json:"title"`
		Detail string `json:"detail"`
	}
	b, _ := io.ReadAll(io.LimitReader(resp.Body, 16<<10))
	if strings.HasPrefix(resp.Header.Get("Content-Type"), "application/problem+json") && json.Unmarshal(b, &p) == nil {
		for _, text := range []string{p.Detail, p.Title} {
			if text != "" {
				return strings.TrimSuffix(printable(text), ".")
			}
		}
	}
	return "HTTP 403"
}

// printable makes a text of somebody else fit for a terminal.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if !strconv.IsPrint(r) {
			return ' '
		}
		return r
	}, s[:min(len(s), 200)])
}

// retryAfter reads the header: seconds or a date.
func retryAfter(s string, now time.Time) time.Duration {
	if n, err := strconv.Atoi(s); err == nil && n >= 0 {
		return time.Duration(n) * time.Second
	}
	if t, err := http.ParseTime(s); err == nil && t.After(now) {
		return t.Sub(now)
	}
	return 0
}

// broken explains an error of the line.
func broken(err error) error {
	var expired x509.CertificateInvalidError
	var host x509.HostnameError
	var unknown x509.UnknownAuthorityError
	var op *net.OpError
	switch {
	case errors.Is(err, context.Canceled):
		return err
	case errors.As(err, &expired) && expired.Reason == x509.Expired:
		return fmt.Errorf("%w: the server's certificate has expired", errCertificate)
	case errors.As(err, &expired), errors.As(err, &host), errors.As(err, &unknown):
		return fmt.Errorf("%w: %v", errCertificate, err)
	case errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("%w: the connection was cut", ErrShort)
	case errors.As(err, &op) && op.Op == "dial":
		return fmt.Errorf("the server cannot be reached: %w", op.Err)
	case errors.As(err, &op):
		return fmt.Errorf("%s: %w", op.Op, op.Err)
	}
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// errCertificate is returned where the other side cannot prove who it is.
var errCertificate = errors.New("the server cannot prove its identity")
