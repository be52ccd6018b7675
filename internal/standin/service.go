package standin

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"morvant/internal/publish"
)

// Account is an account at the feed service.
type Account struct {
	Password string
	Secret   string   // of its one-time codes, in base 32; empty: it needs none
	Owns     []string // components; nil: all of them
}

// Service serves a published folder as a distributor would, on this computer only,
// and misbehaves when told to.
type Service struct {
	Dir      string
	Accounts map[string]Account // nil: everybody may have everything but locked channels
	Keys     map[string]string  // of locked channels
	Life     time.Duration      // of a token; 0: an hour
	Now      func() time.Time
	TLS      *tls.Config // nil: plain HTTP
	Address  string      // where to listen; empty: a free port of this computer

	server   *http.Server
	listener net.Listener

	mu       sync.Mutex
	faults   Faults
	sessions map[string]*session // by token
	renewals map[string]*session // by refresh token
	groups   map[string][2]string
	stats    Stats
}

// session is what a token stands for.
type session struct {
	user    string
	expires time.Time
	open    map[string]bool // channels that have been unlocked
}

// Stats counts what the service was asked for and sent.
type Stats struct {
	Requests int
	Packs    int   // requests for packs
	Bytes    int64 // of packs
	Grants   int   // tokens given out
	Renewed  int
	HTTP2    int // requests over HTTP/2
}

// Start begins to serve and returns the address.
func (s *Service) Start() (string, error) {
	if s.Now == nil {
		s.Now = time.Now
	}
	if s.Life == 0 {
		s.Life = time.Hour
	}
	s.sessions, s.renewals, s.groups = make(map[string]*session), make(map[string]*session), make(map[string][2]string)
	var err error
	if s.Address == "" {
		s.Address = "127.0.0.1:0"
	}
	if s.listener, err = net.Listen("tcp", s.Address); err != nil {
		return "", err
	}
	s.server = &http.Server{Handler: http.HandlerFunc(s.serve), TLSConfig: s.TLS, ErrorLog: quiet()}
	scheme := "http"
	if s.TLS != nil {
		scheme = "https"
		go s.server.ServeTLS(s.listener, "", "")
	} else {
		go s.server.Serve(s.listener)
	}
	return fmt.Sprintf("%s://%s", scheme, s.listener.Addr()), nil
}

// Close stops serving.
func (s *Service) Close() error { return s.server.Close() }

// Misbehave sets what goes wrong from now on.
func (s *Service) Misbehave(f Faults) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.faults = f
}

// Stats returns what has been counted so far.
func (s *Service) Stats() Stats {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.stats
}

// ExpireTokens makes every token worthless; they can still be renewed.
func (s *Service) ExpireTokens() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sessions = make(map[string]*session)
}

// Code returns the one-time code that the account needs at a time (RFC 6238).
func (a Account) Code(at time.Time) (string, error) { return totp.GenerateCode(a.Secret, at) }

func (s *Service) serve(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	s.stats.Requests++
	if r.ProtoMajor == 2 {
		s.stats.HTTP2++
	}
	s.mu.Unlock()
	name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
	if name == "token" {
		s.token(w, r)
		return
	}
	if !s.allowed(w, r, name) {
		return
	}
	s.file(w, r, name)
}

// allowed answers requests for what the account may not have.
func (s *Service) allowed(w http.ResponseWriter, r *http.Request, name string) bool {
	component, channel := "", ""
	dir, base := path.Split(name)
	switch dir {
	case "channels/":
		channel = strings.TrimSuffix(strings.TrimSuffix(base, ".minisig"), ".json")
	case "packs/":
		component, channel = s.group(name)
	}
	_, locked := s.Keys[channel]
	needsAccount := s.Accounts != nil && component != ""
	if !locked && !needsAccount {
		return true
	}
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	s.mu.Lock()
	who := s.sessions[token]
	if who != nil && !s.Now().Before(who.expires) {
		who = nil
	}
	s.mu.Unlock()
	switch {
	case who == nil || needsAccount && who.user == "":
		w.Header().Set("WWW-Authenticate", `Bearer realm="feed"`)
		w.WriteHeader(http.StatusUnauthorized)
	case locked && !who.open[channel]:
		problem(w, "Locked", "The channel "+channel+" is locked; its key opens it.")
	case needsAccount && !s.Accounts[who.user].owns(component):
		problem(w, "Not owned", "The account "+who.user+" does not own "+component+".")
	default:
		return true
	}
	return false
}

func (a Account) owns(component string) bool {
	if a.Owns == nil {
		return true
	}
	for _, c := range a.Owns {
		if c == component {
			return true
		}
	}
	return false
}

// group reads whose a pack is.
func (s *Service) group(name string) (component, channel string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	g, known := s.groups[name]
	if !known {
		component, channel, err := publish.GroupOf(filepath.Join(s.Dir, filepath.FromSlash(name)))
		if err != nil {
			return "", ""
		}
		g = [2]string{component, channel}
		s.groups[name] = g
	}
	return g[0], g[1]
}

// problem answers with problem details (RFC 9457).
func problem(w http.ResponseWriter, title, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(http.StatusForbidden)
	json.NewEncoder(w).Encode(map[string]any{"type": "about:blank", "title": title, "status": http.StatusForbidden, "detail": detail})
}

func refuse(w http.ResponseWriter, code string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusBadRequest)
	json.NewEncoder(w).Encode(map[string]string{"error": code})
}

// token gives out tokens (RFC 6750) in the manner of OAuth 2.0.
func (s *Service) token(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodPost || r.ParseForm() != nil {
		w.WriteHeader(http.StatusMethodNotAllowed)
		return
	}
	bearer, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	s.mu.Lock()
	defer s.mu.Unlock()
	next := &session{open: make(map[string]bool)}
	switch form := r.PostForm; form.Get("grant_type") {
	case "password":
		account, known := s.Accounts[form.Get("username")]
		if !known || account.Password != form.Get("password") {
			refuse(w, "invalid_grant")
			return
		}
		if problem := account.check(form.Get("otp"), s.Now()); problem != "" {
			refuse(w, problem)
			return
		}
		next.user = form.Get("username")
	case "refresh_token":
		was := s.renewals[form.Get("refresh_token")]
		if was == nil {
			refuse(w, "invalid_grant")
			return
		}
		delete(s.renewals, form.Get("refresh_token"))
		next.user, next.open = was.user, was.open
		s.stats.Renewed++
	case "urn:morvant:channel-key":
		key, locked := s.Keys[form.Get("channel")]
		if !locked || key != form.Get("key") {
			refuse(w, "invalid_grant")
			return
		}
		if was := s.sessions[bearer]; was != nil {
			next.user, next.open = was.user, was.open
		}
		next.open[form.Get("channel")] = true
	default:
		refuse(w, "unsupported_grant_type")
		return
	}
	next.expires = s.Now().Add(s.Life)
	access, renewal := rand.Text(), rand.Text()
	s.sessions[access], s.renewals[renewal] = next, next
	s.stats.Grants++
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	json.NewEncoder(w).Encode(map[string]any{
		"access_token": access, "token_type": "Bearer", "expires_in": int(s.Life / time.Second), "refresh_token": renewal,
	})
}

// period is how long a one-time code is valid.
const period = 30 * time.Second

// check returns what is wrong with a one-time code, empty if nothing is.
func (a Account) check(code string, now time.Time) string {
	if a.Secret == "" {
		return ""
	}
	if code == "" {
		return "otp_required"
	}
	o := totp.ValidateOpts{Period: uint(period / time.Second), Digits: otp.DigitsSix}
	if ok, _ := totp.ValidateCustom(code, a.Secret, now, o); ok {
		return ""
	}
	for back := 1; back <= 20; back++ {
		if ok, _ := totp.ValidateCustom(code, a.Secret, now.Add(-time.Duration(back)*period), o); ok {
			return "otp_expired"
		}
	}
	return "invalid_grant"
}

// file sends a file of the folder, or what the faults make of it.
func (s *Service) file(w http.ResponseWriter, r *http.Request, name string) {
	isPack := strings.HasPrefix(name, "packs/")
	s.mu.Lock()
	if isPack {
		s.stats.Packs++
	}
	f := s.faults.next(name)
	s.mu.Unlock()
	if f.instead(w) {
		return
	}
	dir := s.Dir
	if f.dir != "" {
		dir = f.dir
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		w.WriteHeader(http.StatusInternalServerError)
		return
	}
	defer root.Close()
	file, err := root.Open(filepath.FromSlash(name))
	if err != nil {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil || !info.Mode().IsRegular() {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	w.Header().Set("ETag", fmt.Sprintf(`"%x-%x"`, info.ModTime().UnixNano(), info.Size()))
	f.send(w, r, info.ModTime(), file, func(n int) {
		if isPack {
			s.mu.Lock()
			s.stats.Bytes += int64(n)
			s.mu.Unlock()
		}
	})
}

// instead answers in the place of what was asked for, if the fault has it so.
func (f fault) instead(w http.ResponseWriter) bool {
	switch {
	case f.reset:
		reset(w)
	case f.status != 0:
		if f.after != "" {
			w.Header().Set("Retry-After", f.after)
		}
		w.WriteHeader(f.status)
	case f.missing:
		w.WriteHeader(http.StatusNotFound)
	default:
		return false
	}
	return true
}

// send sends content, as the fault spoils it. counted is told of the bytes.
func (f fault) send(w http.ResponseWriter, r *http.Request, changed time.Time, content io.ReadSeeker, counted func(n int)) {
	w.Header().Set("Content-Type", "application/octet-stream")
	if f.noRanges {
		r.Header.Del("Range")
	}
	out := &faulty{ResponseWriter: w, fault: f, ctx: r.Context(), counted: counted}
	http.ServeContent(out, r, "", changed, content)
	if out.broken {
		reset(w)
	}
}

// reset cuts the connection without a word.
func reset(w http.ResponseWriter) {
	conn, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		panic(http.ErrAbortHandler) // HTTP/2: ends the stream
	}
	if tcp, ok := conn.(*net.TCPConn); ok {
		tcp.SetLinger(0)
	}
	conn.Close()
}

// errCut ends an answer early.
var errCut = errors.New("cut off")

// faulty spoils an answer on its way.
type faulty struct {
	http.ResponseWriter
	fault   fault
	ctx     context.Context
	sent    int64
	broken  bool
	counted func(n int)
}

func (f *faulty) WriteHeader(code int) {
	if f.fault.wrongLength && code < 300 {
		// More is promised than will come.
		var n int64
		fmt.Sscan(f.Header().Get("Content-Length"), &n)
		f.Header().Set("Content-Length", fmt.Sprint(n+1000))
	}
	if f.fault.noRanges {
		f.Header().Del("Accept-Ranges")
	}
	f.ResponseWriter.WriteHeader(code)
}

func (f *faulty) Write(b []byte) (int, error) {
	if f.broken {
		return 0, errCut
	}
	if f.fault.cut > 0 && f.sent+int64(len(b)) >= f.fault.cut {
		b = b[:max(0, f.fault.cut-f.sent)]
		f.broken = true
	}
	if f.fault.flip && len(b) > 0 {
		spoilt := append([]byte{}, b...)
		spoilt[len(b)/2] ^= 4
		b = spoilt
	}
	n, err := f.slowly(b)
	f.sent += int64(n)
	f.counted(n)
	if f.broken {
		http.NewResponseController(f.ResponseWriter).Flush()
		return n, errCut
	}
	return n, err
}

func (f *faulty) slowly(b []byte) (int, error) {
	if f.fault.slow <= 0 {
		return f.ResponseWriter.Write(b)
	}
	done := 0
	for done < len(b) {
		step := min(len(b)-done, int(max(1, f.fault.slow/20)))
		n, err := f.ResponseWriter.Write(b[done : done+step])
		done += n
		if err != nil {
			return done, err
		}
		http.NewResponseController(f.ResponseWriter).Flush()
		select {
		case <-time.After(50 * time.Millisecond):
		case <-f.ctx.Done():
			return done, f.ctx.Err()
		}
	}
	return done, nil
}

// Certificate makes a certificate for this computer, signed by itself, and returns
// it with its PEM form. One that ended yesterday is made for expired.
func Certificate(now time.Time, expired bool) (*tls.Config, []byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	end := now.Add(24 * time.Hour)
	if expired {
		end = now.Add(-24 * time.Hour)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: "stand-in feed"},
		NotBefore: now.Add(-48 * time.Hour), NotAfter: end, IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, DNSNames: []string{"localhost"},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return nil, nil, err
	}
	config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}, NextProtos: []string{"h2", "http/1.1"}}
	return config, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), nil
}
