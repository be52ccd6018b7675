package standin

import (
	"crypto/rand"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"aead.dev/minisign"
	"github.com/stretchr/testify/require"

	"morvant/internal/catalogue"
)

// served publishes a small feed and serves it with the harbour's account.
func served(t *testing.T, now func() time.Time) (*Service, string) {
	t.Helper()
	_, key, err := minisign.GenerateKey(nil)
	require.NoError(t, err)
	dir := t.TempDir()
	_, err = Feed{Quay: Quay{Bytes: 2 << 20}, Key: key, Locked: true, Upto: "1.2.0", Valid: time.Hour, Now: time.Now}.Publish(t.Context(), dir, t.TempDir())
	require.NoError(t, err)
	s := &Service{Dir: dir, Accounts: map[string]Account{Harbour: HarbourAccount()}, Keys: map[string]string{"preview": PreviewKey}, Now: now, Life: time.Minute}
	address, err := s.Start()
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s, address
}

type granted struct {
	Access  string `json:"access_token"`
	Refresh string `json:"refresh_token"`
	Error   string `json:"error"`
}

func grant(t *testing.T, address, bearer string, pairs ...string) granted {
	t.Helper()
	form := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		form.Set(pairs[i], pairs[i+1])
	}
	req, err := http.NewRequest(http.MethodPost, address+"/token", strings.NewReader(form.Encode()))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if bearer != "" {
		req.Header.Set("Authorization", "Bearer "+bearer)
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	var g granted
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&g))
	return g
}

// status asks for a file and returns the answer's code and text.
func status(t *testing.T, address, path, bearer string) (int, string) {
	t.Helper()
	req, err := http.NewRequest(http.MethodGet, address+"/"+path, nil)
	require.NoError(t, err)
	if bearer != "" {
		req.Header.Set("Authorization", "Bearer "+bearer)
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(b)
}

// packOf finds a pack of a component.
func packOf(t *testing.T, s *Service, component, channel string) string {
	t.Helper()
	names, err := filepath.Glob(filepath.Join(s.Dir, "packs", "*.pack"))
	require.NoError(t, err)
	for _, name := range names {
		path := "packs/" + filepath.Base(name)
		if c, ch := s.group(path); c == component && ch == channel {
			return path
		}
	}
	t.Fatalf("no pack of %s", component)
	return ""
}

func TestTheServiceGivesTokensForTheRightAnswers(t *testing.T) {
	at := time.Unix(1_943_000_010, 0)
	now := func() time.Time { return at }
	s, address := served(t, now)
	account := HarbourAccount()
	code := func(when time.Time) string {
		c, err := account.Code(when)
		require.NoError(t, err)
		return c
	}
	for want, pairs := range map[string][]string{
		"invalid_grant":          {"grant_type", "password", "username", Harbour, "password", "wrong"},
		"otp_required":           {"grant_type", "password", "username", Harbour, "password", account.Password},
		"otp_expired":            {"grant_type", "password", "username", Harbour, "password", account.Password, "otp", code(at.Add(-2 * time.Minute))},
		"unsupported_grant_type": {"grant_type", "magic"},
	} {
		require.Equal(t, want, grant(t, address, "", pairs...).Error)
	}
	require.Equal(t, "invalid_grant", grant(t, address, "", "grant_type", "password", "username", Harbour, "password", account.Password, "otp", "000000").Error)
	g := grant(t, address, "", "grant_type", "password", "username", Harbour, "password", account.Password, "otp", code(at))
	require.NotEmpty(t, g.Access)

	base, night, preview := packOf(t, s, "base", ""), packOf(t, s, "night-shift", ""), packOf(t, s, "base", "preview")
	got := func(path, bearer string) int { n, _ := status(t, address, path, bearer); return n }
	require.Equal(t, 401, got(base, ""))
	require.Equal(t, 200, got(base, g.Access))
	n, text := status(t, address, night, g.Access)
	require.Equal(t, 403, n)
	require.Contains(t, text, "does not own night-shift")
	require.Equal(t, 200, got(catalogue.FeedFile, ""), "what is on offer is no secret")
	require.Equal(t, 401, got(catalogue.ChannelFile("preview"), ""))
	require.Equal(t, 403, got(catalogue.ChannelFile("preview"), g.Access))

	require.Equal(t, "invalid_grant", grant(t, address, g.Access, "grant_type", "urn:morvant:channel-key", "channel", "preview", "key", "wrong").Error)
	wide := grant(t, address, g.Access, "grant_type", "urn:morvant:channel-key", "channel", "preview", "key", PreviewKey)
	require.Equal(t, 200, got(catalogue.ChannelFile("preview"), wide.Access))
	require.Equal(t, 200, got(preview, wide.Access), "the token is widened, not exchanged")
	require.Equal(t, 200, got(base, wide.Access))

	at = at.Add(2 * time.Minute)
	require.Equal(t, 401, got(base, wide.Access), "tokens run out")
	renewed := grant(t, address, "", "grant_type", "refresh_token", "refresh_token", wide.Refresh)
	require.Equal(t, 200, got(preview, renewed.Access))
	require.Equal(t, "invalid_grant", grant(t, address, "", "grant_type", "refresh_token", "refresh_token", wide.Refresh).Error, "once")
}

func TestTheServiceMisbehavesAsTold(t *testing.T) {
	s, address := served(t, time.Now)
	s.Accounts = nil
	path := packOf(t, s, "base", "")
	whole, err := os.ReadFile(filepath.Join(s.Dir, filepath.FromSlash(path)))
	require.NoError(t, err)
	get := func() (*http.Response, []byte, error) {
		resp, err := http.Get(address + "/" + path)
		if err != nil {
			return nil, nil, err
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		return resp, b, err
	}
	_, b, err := get()
	require.NoError(t, err)
	require.Equal(t, whole, b)

	s.Misbehave(Faults{Cut: 1000, Cuts: 1})
	_, b, err = get()
	require.Error(t, err)
	require.LessOrEqual(t, len(b), 1000)
	_, _, err = get()
	require.NoError(t, err, "once was said")

	s.Misbehave(Faults{Flip: 1})
	_, b, err = get()
	require.NoError(t, err)
	require.Len(t, b, len(whole))
	require.NotEqual(t, whole, b)

	s.Misbehave(Faults{WrongLength: true})
	_, _, err = get()
	require.Error(t, err)

	s.Misbehave(Faults{Busy: 1, After: "7", Down: 1})
	resp, _, err := get()
	require.NoError(t, err)
	require.Equal(t, 429, resp.StatusCode)
	require.Equal(t, "7", resp.Header.Get("Retry-After"))
	resp, _, err = get()
	require.NoError(t, err)
	require.Equal(t, 503, resp.StatusCode)

	s.Misbehave(Faults{Resets: -1})
	_, _, err = get()
	require.Error(t, err)

	s.Misbehave(Faults{Unsigned: true})
	n, _ := status(t, address, "feed.json.minisig", "")
	require.Equal(t, 404, n)
	s.Misbehave(Faults{})
	for _, p := range []string{"../../etc/passwd", "packs/../../x", "packs", ""} {
		n, _ := status(t, address, p, "")
		require.Equal(t, 404, n, p)
	}
}

func TestFaultsAreReadFromText(t *testing.T) {
	var f Faults
	for _, text := range []string{"slow=1000", "cut=5", "resets=1", "busy=2", "down=3", "flip=4", "wrong-length", "no-ranges", "unsigned", "catalogue=/x"} {
		require.NoError(t, f.ParseFault(text))
	}
	require.Equal(t, Faults{Slow: 1000, Cut: 5, Cuts: -1, Resets: 1, Busy: 2, After: "2", Down: 3, Flip: 4, WrongLength: true, NoRanges: true, Unsigned: true, Catalogue: "/x"}, f)
	require.Error(t, f.ParseFault("magic"))
	require.Error(t, f.ParseFault("slow=fast"))
}

func TestTheLauncherIsDefeatedOnlyByWhatWouldDefeatARealOne(t *testing.T) {
	q := Quay{Bytes: 1 << 20}
	dir := t.TempDir()
	live := filepath.Join(dir, "live")
	l := &Launcher{Quay: q, State: filepath.Join(dir, "state.cfg")}
	require.NoError(t, l.Install(live, "1.1.0", ""))
	label, err := Play(q, live, true)
	require.NoError(t, err)
	require.Equal(t, "1.1.0", label)
	require.NoError(t, l.Idle(t.Context()), "there is nothing to do")
	require.NoError(t, l.Offer("1.2.0"))

	set := func(key, value string) {
		s, err := l.load()
		require.NoError(t, err)
		s.set(key, value)
		require.NoError(t, l.save(s))
	}
	set("updates", ByHand)
	require.NoError(t, l.Idle(t.Context()))
	label, err = l.Start(t.Context())
	require.NoError(t, err)
	require.Equal(t, "1.1.0", label)

	set("updates", BeforeStart)
	require.NoError(t, l.Idle(t.Context()))
	staging := l.State + ".staging"
	require.NoError(t, os.WriteFile(staging, nil, 0o444))
	_, err = l.Start(t.Context())
	require.ErrorContains(t, err, "staging")
	require.NoError(t, os.Remove(staging))

	exe := filepath.Join(live, "bin", "quay.exe")
	require.NoError(t, os.Chmod(exe, 0o555))
	_, err = l.Start(t.Context())
	require.ErrorIs(t, err, os.ErrPermission)
	require.NoError(t, os.Chmod(exe, 0o755))

	set("folder", filepath.Join(dir, "elsewhere"))
	_, err = l.Start(t.Context())
	require.ErrorIs(t, err, os.ErrNotExist)
	set("folder", live)

	l.StopAfter = 3
	require.ErrorIs(t, l.Update(t.Context()), ErrStopped)
	_, err = Play(q, live, true)
	require.ErrorIs(t, err, ErrMixed)
	l.StopAfter = 0
	label, err = l.Start(t.Context())
	require.NoError(t, err)
	require.Equal(t, "1.2.0", label, "an update that broke off goes on")
	_, err = Play(q, live, false)
	require.ErrorIs(t, err, ErrCompanion)
	log, err := os.ReadFile(filepath.Join(live, "logs", "last.txt"))
	require.NoError(t, err)
	require.Equal(t, "Cinder Quay 1.2.0 started\n", string(log))
}

func TestALauncherUpdatesFromItsFeed(t *testing.T) {
	dir := t.TempDir()
	q := Quay{Bytes: 1 << 20}
	_, key, err := minisign.GenerateKey(rand.Reader)
	require.NoError(t, err)
	published := filepath.Join(dir, "feed")
	_, err = Feed{Quay: q, Key: key, Valid: time.Hour, Now: time.Now}.Publish(t.Context(), published, t.TempDir())
	require.NoError(t, err)
	live := filepath.Join(dir, "live")
	l := &Launcher{Quay: q, State: filepath.Join(dir, "state.cfg"), StopAfter: 2}
	require.NoError(t, l.Install(live, "1.1.0", published))
	require.NoError(t, l.Offer("9.9"))
	require.ErrorIs(t, l.Update(t.Context()), ErrRelease)
	require.NoError(t, l.Offer("1.3.0"))
	require.ErrorIs(t, l.Update(t.Context()), ErrStopped)
	require.DirExists(t, l.State+".staging", "what has been fetched stays there")
	l.StopAfter = 0
	require.NoError(t, l.Update(t.Context()))
	require.NoDirExists(t, l.State+".staging")
	label, err := Play(q, live, true)
	require.NoError(t, err)
	require.Equal(t, "1.3.0", label)
	want := filepath.Join(dir, "want")
	require.NoError(t, q.Write(want, "1.3.0"))
	require.NoError(t, os.RemoveAll(filepath.Join(live, "logs")))
	require.Equal(t, listed(t, want), listed(t, live), "what the build does not have is gone")
}

// listed lists the files under dir.
func listed(t *testing.T, dir string) []string {
	t.Helper()
	var list []string
	require.NoError(t, filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			rel, _ := filepath.Rel(dir, p)
			list = append(list, rel)
		}
		return err
	}))
	return list
}
