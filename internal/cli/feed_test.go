package cli_test

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"aead.dev/minisign"
	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/standin"
)

// feedSize is how large a build of the test feed is, about.
const feedSize = 2 << 20

// publishedFeed is one feed of all builds that the tests share and never change:
// without sign-in, the preview channel locked.
var publishedFeed = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp(scratch, "feed-")
	if err != nil {
		return "", err
	}
	return dir, publishFeed(dir, standin.Feed{Locked: true})
})

var testKey = sync.OnceValue(func() minisign.PrivateKey {
	_, key, err := minisign.GenerateKey(zeroReader{})
	if err != nil {
		panic(err)
	}
	return key
})

// zeroReader makes the key of the tests always the same.
type zeroReader struct{}

func (zeroReader) Read(b []byte) (int, error) { clear(b); return len(b), nil }

// smallFeed is a feed like publishedFeed, of builds of 2 MB, open to everybody.
var smallFeed = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp(scratch, "small-")
	if err != nil {
		return "", err
	}
	return dir, publishFeed(dir, standin.Feed{Quay: standin.Quay{Bytes: 2_000_000}})
})

// publishFeed publishes Cinder Quay in dir; what f leaves out is filled in.
func publishFeed(dir string, f standin.Feed) error {
	if f.Bytes == 0 {
		f.Bytes = feedSize
	}
	if f.Now == nil {
		f.Now = time.Now
	}
	if f.Valid == 0 {
		f.Valid = 24 * time.Hour
	}
	if f.Key.ID() == 0 {
		f.Key = testKey()
	}
	work, err := os.MkdirTemp("", "morvant-work-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	_, err = f.Publish(context.Background(), dir, work)
	return err
}

// market is a player's computer and a feed service.
type market struct {
	*world
	service *standin.Service
	address string
	quay    standin.Quay // of the installed game
}

// newMarket starts the service over the shared feed, with the game at a build.
func newMarket(t *testing.T, label string) *market {
	t.Helper()
	dir, err := publishedFeed()
	require.NoError(t, err)
	return newMarketOn(t, label, &standin.Service{Dir: dir, Keys: map[string]string{"preview": standin.PreviewKey}})
}

func newMarketOn(t *testing.T, label string, s *standin.Service) *market {
	t.Helper()
	return newMarketOf(t, label, s, standin.Quay{Bytes: feedSize})
}

func newMarketOf(t *testing.T, label string, s *standin.Service, q standin.Quay) *market {
	t.Helper()
	m := &market{world: newWorld(t), service: s, quay: q}
	var err error
	m.address, err = s.Start()
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	require.NoError(t, q.Write(m.live, label))
	require.NoError(t, os.RemoveAll(m.path("voices/fr")))
	require.NoError(t, q.AddPlayerFiles(m.live))
	m.ok("add", "quay", m.live, "--keep", "Mods/**", "--keep", "Harbours/**", "--keep", "settings.ini", "--scratch", "logs/**")
	return m
}

// isBuild checks that the live folder holds exactly a build, the components named,
// and the player's files.
func (m *market) isBuild(label string, components ...string) {
	m.t.Helper()
	want := m.t.TempDir()
	require.NoError(m.t, m.quay.Write(want, label))
	require.NoError(m.t, m.quay.AddPlayerFiles(want))
	require.Equal(m.t, contentOf(m.t, want, components), contentOf(m.t, m.live, nil))
}

// contentOf maps the files of a folder to their digests, and to whether they are
// programs. Of the game's own only those of the components count; nil: all.
func contentOf(t *testing.T, dir string, components []string) map[string]string {
	t.Helper()
	has := make(map[string]bool)
	for _, c := range components {
		has[c] = true
	}
	seen := make(map[string]string)
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		rel, relErr := filepath.Rel(dir, p)
		if err != nil || relErr != nil || d.IsDir() {
			return err
		}
		rel = filepath.ToSlash(rel)
		if strings.HasPrefix(rel, ".morvant/") || components != nil && !has[standin.Component(rel)] {
			return nil
		}
		b, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		info, err := d.Info()
		seen[rel] = fmt.Sprintf("%s %v", digest.Of(b), info.Mode()&0o100 != 0)
		return err
	}))
	return seen
}

func TestABuildIsFoundByDateFetchedAndPinned(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.3.0")
	added := m.ok("feed", "add", m.address)
	require.Contains(t, added.out, "quay-archive")
	require.Regexp(t, `RW\S{54}`, added.out, "the key is shown")

	on := m.ok("builds", "--on", "2031-08-05")
	require.Regexp(t, `1\.1\.1 .*current that day`, on.out)
	require.Regexp(t, `1\.1\.0 .*the same day`, on.out)
	require.NotContains(t, on.out, "1.3.0")
	require.Contains(t, m.ok("builds", "--find", "smugglers").out, "1.2.0")
	require.NotContains(t, m.ok("builds", "--find", "smugglers").out, "1.1.1")

	dry := m.json(0, "pin", "@2031-08-05", "--dry-run")
	require.Equal(t, "1.1.1", dry["build"])
	require.Equal(t, []any{"base", "voices-en"}, dry["components"], "those that the folder has")
	fetch := int64(dry["fetch_bytes"].(float64))
	require.Positive(t, fetch)
	require.Zero(t, m.service.Stats().Packs, "a dry run fetches nothing")

	before := m.picture()
	r := m.ok("pin", "@2031-08-05", "--yes")
	require.Contains(t, r.err, "Also of that day: 1.1.0")
	m.isBuild("1.1.1", "base", "voices-en")
	sent := m.service.Stats().Bytes
	require.InDelta(t, fetch, sent, 0.1*float64(fetch), "what was announced is what came")
	require.Less(t, sent, int64(feedSize)/2, "what the folder shares with the build is not fetched")

	require.Contains(t, m.ok("verify").out, "every byte")
	require.Equal(t, true, m.json(0, "status")["held"])
	m.ok("store", "check")
	m.ok("undo", "--yes")
	require.Equal(t, before, m.picture())
	m.ok("pin", "1.1.1", "--yes")
	require.Equal(t, sent, m.service.Stats().Bytes, "nothing is fetched twice")
	m.ok("unpin", "--to", "public/newest", "--yes")
	m.isBuild("1.3.0", "base", "voices-en")
}

func TestCatalogueAnswersWithoutALine(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.1.0")
	m.ok("feed", "add", m.address)
	m.ok("fetch", "1.1.1")
	require.NoError(t, m.service.Close())
	require.Contains(t, m.ok("builds").out, "1.2.0")
	require.Contains(t, m.ok("diff", "1.1.0", "1.1.1").out, "from 1.1.0 to 1.1.1")
	require.Contains(t, m.ok("diff", "1.1.0", "1.0.0").out, "how much a fetch of 1.0.0 would download is not known")
	require.Contains(t, m.ok("identify").out, "is 1.1.0 (public)")
	m.fails(1, "refused", "feed", "refresh", "--timeout", "2s")
	m.ok("pin", "1.1.1", "--yes")
	m.isBuild("1.1.1", "base", "voices-en")
}

func TestAFeedIsAFolderToo(t *testing.T) {
	t.Parallel()
	dir, err := publishedFeed()
	require.NoError(t, err)
	for name, address := range map[string]string{"folder": dir, "file": "file:///" + strings.TrimPrefix(filepath.ToSlash(dir), "/")} {
		t.Run(name, func(t *testing.T) {
			m := newMarket(t, "1.2.0")
			m.ok("feed", "add", address)
			m.ok("pin", "1.0.0", "--yes", "--component", "base", "--component", "voices-en")
			m.isBuild("1.0.0", "base", "voices-en")
		})
	}
}

func TestTheKeyIsKeptAndCanBeDemanded(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.1.0")
	key := regexp.MustCompile(`RW\S{54}`).FindString(m.ok("feed", "add", m.address).out)
	m.fails(1, "already there", "feed", "add", m.address)
	m.ok("feed", "remove", "quay-archive", "--yes")
	m.ok("feed", "add", m.address, "--key", key)
	m.ok("feed", "remove", "quay-archive", "--yes")
	other := strings.Replace(key, key[10:14], "AAAA", 1)
	m.fails(1, "signed by another key", "feed", "add", m.address, "--key", other)
	m.fails(1, "is not a public key", "feed", "add", m.address, "--key", "nonsense")
	require.Empty(t, m.json(0, "feed", "list")["feeds"])
	m.fails(1, "no feed has been added", "feed", "refresh")
}

// TestACatalogueThatCannotBeTrusted has a service that shows another catalogue
// after the feed has been added.
func TestACatalogueThatCannotBeTrusted(t *testing.T) {
	t.Parallel()
	dir, err := publishedFeed()
	require.NoError(t, err)
	older, foreign, expired := t.TempDir(), t.TempDir(), t.TempDir()
	require.NoError(t, publishFeed(older, standin.Feed{Upto: "1.1.0"}))
	_, stranger, err := minisign.GenerateKey(nil)
	require.NoError(t, err)
	require.NoError(t, publishFeed(foreign, standin.Feed{Key: stranger}))
	past := func() time.Time { return time.Now().Add(-48 * time.Hour) }
	for range 3 { // a higher serial number than that of the feed
		require.NoError(t, publishFeed(expired, standin.Feed{Locked: true, Now: past}))
	}
	for name, c := range map[string]struct {
		faults standin.Faults
		words  string
	}{
		"the same serial number with other content": {standin.Faults{Catalogue: older}, "the catalogue is older"},
		"another key": {standin.Faults{Catalogue: foreign}, "signed by another key"},
		"expired":     {standin.Faults{Catalogue: expired}, "has expired"},
		"unsigned":    {standin.Faults{Unsigned: true}, "has no signature"},
		"flipped":     {standin.Faults{FlipAll: true}, "feed.json"},
	} {
		t.Run(name, func(t *testing.T) {
			m := newMarketOn(t, "1.1.0", &standin.Service{Dir: dir, Keys: map[string]string{"preview": standin.PreviewKey}})
			m.service.Misbehave(c.faults)
			if name != "another key" && name != "the same serial number with other content" {
				m.fails(1, c.words, "feed", "add", m.address)
				require.Empty(t, m.json(0, "feed", "list")["feeds"], "half a feed is no feed")
			}
			m.service.Misbehave(standin.Faults{})
			m.ok("feed", "add", m.address)
			before := m.ok("builds").out
			// A new version that the client has not seen.
			m.service.Misbehave(c.faults)
			if c.faults.Unsigned || c.faults.FlipAll {
				require.NoError(t, os.Chtimes(filepath.Join(dir, "feed.json"), time.Now(), time.Now().Add(time.Duration(len(name))*time.Second)))
			}
			m.fails(1, c.words, "feed", "refresh")
			require.Equal(t, before, m.ok("builds").out, "what was known stays")
		})
	}
}

func TestARolledBackCatalogueIsRefused(t *testing.T) {
	t.Parallel()
	dir, old := t.TempDir(), t.TempDir()
	require.NoError(t, publishFeed(dir, standin.Feed{Upto: "1.1.0"}))
	require.NoError(t, os.CopyFS(old, os.DirFS(dir)))
	require.NoError(t, publishFeed(dir, standin.Feed{Upto: "1.2.0"}))
	m := newMarketOn(t, "1.1.0", &standin.Service{Dir: dir})
	m.ok("feed", "add", m.address)
	m.service.Misbehave(standin.Faults{Catalogue: old})
	m.fails(1, "serial number 1 after 2", "feed", "refresh")
	require.Contains(t, m.ok("builds").out, "1.2.0")
	m.service.Misbehave(standin.Faults{})
	require.NoError(t, publishFeed(dir, standin.Feed{}))
	require.Contains(t, m.ok("feed", "refresh").out, "1 build new: public/1.3.0")
}

// TestABadLine fetches from a service that misbehaves and must come to the same
// end as over a good one.
func TestABadLine(t *testing.T) {
	t.Parallel()
	for name, faults := range map[string]standin.Faults{
		"cut":          {Cut: 200_000, Cuts: 6},
		"reset":        {Resets: 3},
		"busy":         {Busy: 2, After: "1"},
		"down":         {Down: 3},
		"wrong length": {WrongLength: true},
		"no ranges":    {NoRanges: true},
		"flipped once": {Flip: 1},
		"slow":         {Slow: 3 << 20},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			m := newMarket(t, "0.9.0") // far from the build that is wanted
			m.ok("feed", "add", m.address)
			args := []string{"pin", "1.2.0", "--component", "base", "--component", "voices-en", "--yes"}
			m.ok(append(args, "--dry-run")...) // brings the layouts here
			m.service.Misbehave(faults)
			m.ok(args...)
			m.isBuild("1.2.0", "base", "voices-en")
			require.Greater(t, m.service.Stats().Bytes, int64(feedSize/4))
		})
	}
}

func TestRetryAfterIsObeyed(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.3.0")
	m.ok("feed", "add", m.address)
	m.service.Misbehave(standin.Faults{Busy: 1, After: "2"})
	started := time.Now()
	r := m.ok("fetch", "1.1.1")
	require.GreaterOrEqual(t, time.Since(started), 2*time.Second)
	require.Contains(t, r.err, "trying again in 2s")
	m.service.Misbehave(standin.Faults{Busy: -1, After: "7200"})
	m.fails(1, "HTTP 429", "fetch", "1.2.0") // nobody waits two hours in a command
}

func TestWhatStaysWrongIsNamedAndNotKept(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.3.0")
	m.ok("feed", "add", m.address)
	m.service.Misbehave(standin.Faults{Flip: -1})
	before := m.picture()
	m.fails(1, "wrong content for ", "pin", "1.1.1", "--yes")
	require.Equal(t, before, m.picture())
	m.ok("store", "check")
	m.service.Misbehave(standin.Faults{})
	m.ok("pin", "1.1.1", "--yes")
	m.isBuild("1.1.1", "base", "voices-en")
}

func TestASilentServerIsGivenUp(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.3.0")
	m.ok("feed", "add", m.address)
	m.service.Misbehave(standin.Faults{Slow: 1})
	// The first byte comes, the rest does not in time.
	m.fails(1, "stopped answering", "fetch", "1.1.1", "--timeout", "40ms")
}

func TestTheNextMirrorIsAskedWhenOneFails(t *testing.T) {
	t.Parallel()
	dir, err := publishedFeed()
	require.NoError(t, err)
	m := newMarket(t, "1.3.0")
	bad := &standin.Service{Dir: dir}
	address, err := bad.Start()
	require.NoError(t, err)
	defer bad.Close()
	m.ok("feed", "add", address, m.address)
	bad.Misbehave(standin.Faults{Flip: -1})
	m.ok("fetch", "1.1.1")
	require.Positive(t, m.service.Stats().Bytes, "what came wrong from the first")
	require.NoError(t, bad.Close())
	m.ok("pin", "1.1.0", "--yes")
	m.isBuild("1.1.0", "base", "voices-en")
}

func TestTheNextFeedIsAskedWhenOneFails(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.3.0")
	second := t.TempDir()
	require.NoError(t, publishFeed(second, standin.Feed{}))
	m.ok("feed", "add", m.address, "--name", "first")
	m.ok("feed", "add", second, "--name", "second")
	m.service.Misbehave(standin.Faults{Flip: -1})
	r := m.ok("pin", "1.1.1", "--yes")
	require.Contains(t, r.err, "going on with second")
	m.isBuild("1.1.1", "base", "voices-en")
}

func TestFetchGoesNoFasterThanAsked(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.3.0")
	m.ok("feed", "add", m.address)
	plan := m.json(0, "fetch", "1.1.1", "--dry-run")
	started := time.Now()
	m.ok("fetch", "1.1.1", "--limit", "400kB/s")
	want := time.Duration((plan["fetch_bytes"].(float64) - 64<<10) / 400e3 * float64(time.Second))
	require.GreaterOrEqual(t, time.Since(started), want)
	m.fails(2, "is not a speed", "fetch", "1.1.1", "--limit", "fast")
}

func TestSomeComponentsOfABuild(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.3.0")
	m.ok("feed", "add", m.address)
	m.fails(1, "no such component", "pin", "1.1.1", "--component", "voices-de", "--yes")
	m.ok("pin", "1.1.1", "--component", "voices-fr", "--yes")
	m.isBuild("1.1.1", "base", "voices-fr")
	// What the lane is held with goes on without being named.
	m.ok("pin", "1.1.0", "--yes")
	m.isBuild("1.1.0", "base", "voices-fr")
	m.write("version.txt", "spoilt\n")
	require.NoError(t, os.Remove(m.path("bin/quay.exe")))
	m.ok("verify", "--repair", "--yes")
	m.isBuild("1.1.0", "base", "voices-fr")
}

func TestAFeedOfManifestsAlone(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, publishFeed(dir, standin.Feed{Without: true}))
	m := newMarketOn(t, "1.1.1", &standin.Service{Dir: dir})
	m.ok("feed", "add", m.address)
	require.Contains(t, m.ok("identify").out, "is 1.1.1 (public)")
	require.Contains(t, m.ok("builds").out, "not offered")
	require.Contains(t, m.ok("diff", "1.1.1", "1.2.0").out, "cannot be fetched")
	m.fails(1, "does not have its content", "fetch", "1.2.0")
	m.ok("verify", "1.1.1")

	// It holds the game all the same: drift is seen, and what is here of the build is kept from then on.
	m.ok("pin", "1.1.1", "--yes")
	m.update("1.3.0")
	require.Contains(t, m.run("status").out, "looks like an update to 1.3.0")
	m.ok("pin", "1.1.1", "--clean", "--yes")
	m.isBuild("1.1.1", "base", "voices-en")
}

func TestIdentifyNamesTheNearestBuild(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.1.1")
	m.ok("feed", "add", m.address)
	other := filepath.Join(m.dir, "copy")
	q := standin.Quay{Bytes: feedSize}
	require.NoError(t, q.Write(other, "1.2.0"))
	require.NoError(t, os.RemoveAll(filepath.Join(other, "voices")))
	j := m.json(0, "identify", other)
	best := j["matches"].([]any)[0].(map[string]any)
	require.Equal(t, "1.2.0", best["build"])
	require.Equal(t, true, best["exact"])
	there := make(map[string]bool)
	for _, c := range best["components"].([]any) {
		c := c.(map[string]any)
		there[c["component"].(string)] = c["there"].(bool)
	}
	require.Equal(t, map[string]bool{"base": true, "night-shift": true, "voices-en": false, "voices-fr": false}, there)

	require.NoError(t, os.WriteFile(filepath.Join(other, "readme.txt"), []byte("mine"), 0o644))
	require.NoError(t, os.Remove(filepath.Join(other, "version.txt")))
	r := m.ok("identify", other)
	require.Contains(t, r.out, "is closest to 1.2.0")
	require.Regexp(t, `altered\s+readme\.txt`, r.out)
	require.Regexp(t, `missing\s+version\.txt`, r.out)
	require.Contains(t, m.ok("identify", t.TempDir()).out, "like no known build")
}

func TestOwnNotesOnBuilds(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.1.1")
	m.ok("feed", "add", m.address)
	m.ok("builds", "note", "1.1.0", "the one for the race")
	require.Contains(t, m.ok("builds", "--find", "RACE").out, "1.1.0")
	require.Contains(t, m.ok("builds").out, "yours: the one for the race")
	m.ok("builds", "note", "1.1.0")
	require.NotContains(t, m.ok("builds").out, "race")
	m.fails(2, "one line", "builds", "note", "1.1.0", "two\nlines")
}

func TestASnapshotAndAFeedsBuildOfOneName(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.1.0")
	m.ok("feed", "add", m.address)
	m.ok("snapshot", "1.1.1")
	r := m.ok("pin", "1.1.1", "--yes")
	require.Contains(t, r.err, "public/1.1.1 is the feed's build of that name")
	m.isBuild("1.1.0", "base", "voices-en")
	m.ok("pin", "public/1.1.1", "--yes")
	m.isBuild("1.1.1", "base", "voices-en")
	m.ok("pin", "snapshot/1.1.1", "--yes")
	m.isBuild("1.1.0", "base", "voices-en")
	m.fails(1, `there is no build "preview/1.1.1"`, "pin", "preview/1.1.1", "--yes")
}

func TestWhatIsFetchedOutlivesItsFeed(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.3.0")
	m.ok("feed", "add", m.address)
	m.ok("fetch", "1.1.1")
	m.ok("pin", "1.1.0", "--yes")
	m.ok("feed", "remove", "quay-archive", "--yes")
	m.ok("store", "trim", "--yes")
	m.ok("pin", "1.1.1", "--yes")
	m.isBuild("1.1.1", "base", "voices-en")
	require.Contains(t, m.ok("builds").out, "1.1.0")
	m.ok("store", "check")
}

func TestAPinBringsOnlyWhatItWrites(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.3.0")
	m.ok("feed", "add", m.address)
	m.ok("pin", "1.1.0", "--yes")
	m.ok("store", "check")
	m.ok("feed", "remove", "quay-archive", "--yes")
	// What was in the folder already is not in the store.
	m.fails(1, "no feed offers it", "fetch", "1.1.0")
	require.NoError(t, os.Remove(m.path("data/legacy/crane-arms.dat")))
	m.ok("verify", "--repair", "--yes")
	m.isBuild("1.1.0", "base", "voices-en")
}
