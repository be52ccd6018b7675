package feed

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/time/rate"

	"morvant/internal/adapter"
	"morvant/internal/catalogue"
	"morvant/internal/feed/fence"
	"morvant/internal/feed/listing"
	"morvant/internal/manifest"
	"morvant/internal/problem"
	"morvant/internal/progress"
)

// ErrNoRanges is returned for a server that answers a request for a part of a file with all of it.
var ErrNoRanges = problem.New("the server sends whole files only",
	"Add a mirror on a server that answers range requests, as most web servers do, or copy the feed's folder to this computer and add that")

// StoreError is trouble on this computer, which no other server can help with.
type StoreError struct{ Err error }

func (e *StoreError) Error() string { return e.Err.Error() }

func (e *StoreError) Unwrap() error { return e.Err }

// Options say how feeds are talked to.
type Options struct {
	Limit   int64         // bytes a second, for all connections together; 0: no limit
	Silence time.Duration // how long the other side may say nothing; 0: half a minute
	Meter   progress.Meter
	Now     func() time.Time
	// Of adapters: what answers their questions (nil: nobody does), and where what they write to their standard
	// error goes, beside being kept. Offer asks the player to sign in where that is wanted.
	Offer bool
	Ask   func(context.Context, adapter.Question) (string, error)
	Log   io.Writer
	// Watch is shown every message that is exchanged with an adapter; nil: nobody looks.
	Watch func(sent bool, line []byte)
	// Version is Morvant's, for adapters. Unchecked lets content come that no digest tells from other.
	Version   string
	Unchecked bool
	// Reading says which manifests a distributor is asked for along with its list.
	Reading listing.Reading
	// Self is this program, which is started once more to hold what is not trusted, see package process; empty: nothing is.
	Self string
}

const (
	defaultSilence = 30 * time.Second
	// Connections is how many requests are under way at once.
	Connections = 6
	// rounds is how often every address is tried before giving up, and the pauses
	// in between: a quarter of a second at first, then twice as long each time.
	rounds = 7
	// FetchRounds is the same while content is being fetched: about a minute in
	// which nothing at all arrives.
	FetchRounds = 9
	// silentRounds is the same for servers that have never answered, for then most
	// likely there is no line, and for those that have fallen silent, which took
	// long enough to notice.
	silentRounds = 3
	firstPause   = 250 * time.Millisecond
	maxPause     = 30 * time.Second
	// maxAsked is the longest pause that a service may ask for, in Retry-After.
	maxAsked = 2 * time.Minute
)

// Wire is the way to a feed's servers: connections that are kept, tokens, speed
// limit, and what has come through.
type Wire struct {
	client   *http.Client
	limit    limiter
	silence  time.Duration
	meter    progress.Meter
	now      func() time.Time
	tokens   *tokens // nil: nobody is signed in
	Received atomic.Int64
	Rounds   int          // how often every address is tried
	Answered atomic.Bool  // somebody is there
	quiet    atomic.Int64 // no warning before this time, in nanoseconds since 1970
	fence    *fence.Fence // around what an adapter names; nil: there is no adapter
}

// newWire returns a line, to be closed at the end.
func newWire(o Options) *Wire {
	if o.Silence == 0 {
		o.Silence = defaultSilence
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.DisableCompression = true
	transport.MaxConnsPerHost = Connections
	transport.MaxIdleConnsPerHost = Connections
	transport.ForceAttemptHTTP2 = true
	w := &Wire{client: &http.Client{Transport: transport, CheckRedirect: sameOrigin}, silence: o.Silence, meter: o.Meter, now: o.Now, Rounds: rounds}
	w.limit = newLimiter(o.Limit)
	return w
}

func (w *Wire) Close() { w.client.CloseIdleConnections() }

// sameOrigin follows redirects within the same server only: what was asked for,
// and the token with it, is meant for nobody else.
func sameOrigin(req *http.Request, via []*http.Request) error {
	first := via[0].URL
	if len(via) > 5 || req.URL.Scheme != first.Scheme || req.URL.Host != first.Host {
		return fmt.Errorf("%w: it leads to another server, %s", ErrHostile, req.URL.Host)
	}
	return nil
}

// do sends a request and returns the answer, whose body fails once the other side
// has been silent for too long. done must be called when the body has been read.
func (w *Wire) do(ctx context.Context, method string, u *url.URL, header http.Header, form url.Values) (*http.Response, func(), error) {
	ctx, cancel := context.WithCancelCause(ctx)
	timer := time.AfterFunc(w.silence, func() { cancel(ErrSilent) })
	done := func() {
		timer.Stop()
		cancel(nil)
	}
	var body io.Reader
	if form != nil {
		body = strings.NewReader(form.Encode())
	}
	req, err := http.NewRequestWithContext(ctx, method, u.String(), body)
	if err != nil {
		done()
		return nil, nil, err
	}
	for k, v := range header {
		req.Header[k] = v
	}
	req.Header.Set("User-Agent", "morvant")
	if form != nil {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	resp, err := w.client.Do(req)
	if err != nil {
		cause := context.Cause(ctx)
		done()
		if errors.Is(cause, ErrSilent) {
			return nil, nil, ErrSilent
		}
		return nil, nil, broken(err)
	}
	timer.Stop()
	w.Answered.Store(true)
	raw := resp.Body
	resp.Body = struct {
		io.Reader
		io.Closer
	}{w.limit.slow(ctx, &patient{ctx: ctx, r: &lively{r: raw, window: 2 * w.silence}, wire: w, timer: timer}), raw}
	return resp, func() {
		// Not read to its end: the connection goes with the context.
		raw.Close()
		done()
	}, nil
}

// patient gives the other side the same time for each read. While nobody reads, as a limit has it,
// no time runs.
type patient struct {
	ctx   context.Context
	r     io.Reader
	wire  *Wire
	timer *time.Timer
}

func (p *patient) Read(b []byte) (int, error) {
	p.timer.Reset(p.wire.silence)
	n, err := p.r.Read(b)
	p.timer.Stop()
	p.wire.Received.Add(int64(n))
	if err != nil && !errors.Is(err, io.EOF) {
		if errors.Is(context.Cause(p.ctx), ErrSilent) {
			return n, ErrSilent
		}
		err = broken(err)
	}
	return n, err
}

// floor is how few bytes a second may come, over twice the time that the other side may be
// silent: one that sends a byte now and then is not there either.
const floor = 256

// lively counts what comes in the time that is spent waiting for it.
type lively struct {
	r      io.Reader
	window time.Duration
	waited time.Duration
	got    int64
}

func (l *lively) Read(b []byte) (int, error) {
	began := time.Now()
	n, err := l.r.Read(b)
	l.waited += time.Since(began)
	l.got += int64(n)
	if err != nil || l.waited < l.window {
		return n, err
	}
	if float64(l.got) < floor*l.waited.Seconds() {
		return n, fmt.Errorf("%w: %d bytes in %s", ErrSilent, l.got, l.waited.Round(time.Second))
	}
	l.waited, l.got = 0, 0
	return n, nil
}

// token returns the token to show at base, empty if none fits there.
func (w *Wire) token(ctx context.Context, base *url.URL, renew bool) (string, error) {
	if w.tokens == nil || !w.tokens.fits(base) {
		return "", nil
	}
	return w.tokens.current(ctx, renew)
}

// secure reports whether secrets may be sent to u: over TLS, or to this computer.
func secure(u *url.URL) bool {
	if u.Scheme == "https" {
		return true
	}
	host := u.Hostname()
	ip := net.ParseIP(host)
	return u.Scheme == "http" && (host == "localhost" || ip != nil && ip.IsLoopback())
}

// limiter bounds bytes a second.
type limiter struct{ *rate.Limiter }

// How much may come at once, in bytes: a quarter of a second's worth, within bounds.
const (
	leastBurst = 1 << 10
	mostBurst  = 64 << 10
)

func newLimiter(perSecond int64) limiter {
	if perSecond <= 0 {
		return limiter{}
	}
	return limiter{rate.NewLimiter(rate.Limit(perSecond), int(min(max(perSecond/4, leastBurst), mostBurst)))}
}

func (l limiter) slow(ctx context.Context, r io.Reader) io.Reader {
	if l.Limiter == nil {
		return r
	}
	return &slowReader{ctx, r, l}
}

type slowReader struct {
	ctx context.Context
	r   io.Reader
	l   limiter
}

func (s *slowReader) Read(b []byte) (int, error) {
	n, err := s.r.Read(b[:min(len(b), s.l.Burst())])
	if n > 0 {
		if waitErr := s.l.WaitN(s.ctx, n); waitErr != nil {
			return n, waitErr
		}
	}
	return n, err
}

// temporary reports whether it is worth trying the same again.
func temporary(err error) bool {
	var busy *BusyError
	if errors.As(err, &busy) {
		return busy.After <= maxAsked
	}
	var denied *DeniedError
	var refused *RefusedError
	var local *StoreError
	var later *LaterError
	if errors.As(err, &later) {
		return false
	}
	if errors.As(err, &denied) || errors.As(err, &refused) || errors.As(err, &local) {
		return false
	}
	for _, lasting := range []error{
		adapter.ErrProtocol, adapter.ErrProgram, adapter.ErrSilent, adapter.ErrEnded,
		ErrMissing, ErrSignIn, ErrInsecure, ErrAddress, fence.ErrNear, errCertificate, ErrHostile, ErrNoRanges, context.Canceled, fs.ErrPermission,
		ErrKey, ErrRollback, ErrExpired, catalogue.ErrSignature, catalogue.ErrFormat, problem.ErrNewer, catalogue.ErrName,
		manifest.ErrFormat, problem.ErrNewer, manifest.ErrPath,
	} {
		if errors.Is(err, lasting) {
			return false
		}
	}
	return true
}

// Attempt tries op at each source in turn until it succeeds, in several rounds
// with growing pauses. An op that got further before it failed (progress counts
// up) begins anew.
func (w *Wire) Attempt(ctx context.Context, sources []Source, progress func() int64, op func(Source) error) error {
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval, pauses.Multiplier = firstPause, maxPause, 2
	seen := progress()
	for round := 0; ; round++ {
		var errs []error
		again := false
		var asked time.Duration
		for _, s := range sources {
			err := op(s)
			if err == nil {
				return nil
			}
			if ctx.Err() != nil {
				return ctx.Err()
			}
			var busy *BusyError
			if errors.As(err, &busy) {
				asked = max(asked, busy.After)
			}
			again = again || temporary(err)
			errs = append(errs, fmt.Errorf("%s: %w", s, err))
		}
		if now := progress(); now > seen {
			seen, round = now, 0
			pauses.Reset()
		}
		last := w.Rounds
		if !w.Answered.Load() || !slices.ContainsFunc(errs, func(err error) bool { return !errors.Is(err, ErrSilent) }) {
			last = silentRounds
		}
		if !again || round+1 >= last {
			return errors.Join(errs...)
		}
		pause := max(pauses.NextBackOff(), min(asked, maxAsked))
		if pause >= time.Second {
			w.warn(fmt.Sprintf("%s; trying again in %s", oneLine(errs[0]), pause.Round(time.Second)), pause)
		}
		if err := sleep(ctx, pause); err != nil {
			return err
		}
	}
}

// warn passes on that the line is bad, once for all connections that notice.
func (w *Wire) warn(message string, quiet time.Duration) {
	now := w.now().UnixNano()
	if until := w.quiet.Load(); now >= until && w.quiet.CompareAndSwap(until, now+int64(quiet)) {
		w.meter.Warn(message)
	}
}

func oneLine(err error) string { return strings.ReplaceAll(err.Error(), "\n", "; ") }

func sleep(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// noProgress is for what does not get further by parts.
func noProgress() int64 { return 0 }
