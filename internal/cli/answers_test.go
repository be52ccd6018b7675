package cli_test

import (
	"archive/zip"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/standin"
)

// forgetAsking makes the copies of all feeds as old as if nobody had asked them for long.
func (w *world) forgetAsking() {
	w.t.Helper()
	list, err := filepath.Glob(filepath.Join(w.home, "feeds", "*", "*", "subscription.json"))
	require.NoError(w.t, err)
	require.NotEmpty(w.t, list)
	for _, file := range list {
		b, err := os.ReadFile(file)
		require.NoError(w.t, err)
		b = regexp.MustCompile(`("refreshed": *)"[^"]*"`).ReplaceAll(b, []byte(`$1"2020-01-01T00:00:00Z"`))
		b = regexp.MustCompile(`,\s*"seal": *"[^"]*"`).ReplaceAll(b, nil) // as an earlier version wrote it
		require.NoError(w.t, os.WriteFile(file, b, 0o644))
	}
}

// TestADateAndBeforeAskWhatIsNew: not only newest.
func TestADateAndBeforeAskWhatIsNew(t *testing.T) {
	t.Parallel()
	for _, ask := range [][]string{{"pin", "@2031-08-05", "--dry-run"}, {"diff", "@2031-08-05"}, {"builds", "--on", "2031-08-05"}, {"pin", "before", "--dry-run"}} {
		dir := t.TempDir()
		small := standin.Quay{Bytes: 1_000_000}
		require.NoError(t, publishFeed(dir, standin.Feed{Quay: small, Upto: "1.1.0"}))
		m := newMarketOf(t, "1.0.0", &standin.Service{Dir: dir}, small)
		m.ok("feed", "add", m.address)
		require.NoError(t, publishFeed(dir, standin.Feed{Quay: small, Upto: "1.2.0"}))
		m.forgetAsking()
		r := m.run(ask...)
		require.Contains(t, []int{0, 3}, r.code, r.err)
		require.Contains(t, r.out+r.err, "1.1.1", "%v", ask)
	}
}

func TestADateSaysWhichChannelsThereAre(t *testing.T) {
	t.Parallel()
	m := newMarketOf(t, "1.0.0", &standin.Service{Dir: must(smallFeed())}, standin.Quay{Bytes: 2_000_000})
	m.ok("feed", "add", m.address)
	r := m.ok("pin", "@2031-08-05", "--dry-run")
	require.Contains(t, r.err, "@2031-08-05 is 1.1.1 of 2031-08-05 ")
	require.Contains(t, r.err, "in channel public")
	require.Regexp(t, `Other channels had: preview/0\.9\.0 \(.*\)\. Write preview/@2031-08-05 to choose one\.`, r.err)
	require.NotContains(t, m.ok("pin", "public/@2031-08-05", "--dry-run").err, "Other channels")
	m.fails(1, "no build is as old as @2020-01-01: the oldest that is known, 1.0.0, is of 20", "pin", "@2020-01-01", "--dry-run")
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// settle makes files old enough for what is read of them to be trusted.
func (w *world) settle(dir string) {
	w.t.Helper()
	require.NoError(w.t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		old := time.Now().Add(-time.Hour)
		return os.Chtimes(p, old, old)
	}))
}

// TestWhatIdentifyHasReadIsRead: it remembers for the lane, and never hides what goes missing.
func TestWhatIdentifyHasReadIsRead(t *testing.T) {
	t.Parallel()
	m := newMarketOf(t, "1.1.1", &standin.Service{Dir: must(smallFeed())}, standin.Quay{Bytes: 2_000_000})
	m.settle(m.live)
	m.ok("feed", "add", m.address)
	require.Contains(t, m.ok("builds").out, "?: the game's folder has not been read yet; morvant identify reads it.")
	require.Eventually(t, func() bool { // what was written just now is not trusted
		m.ok("identify", m.live)
		return !strings.Contains(m.ok("builds").out, "?:")
	}, time.Minute, 10*time.Millisecond)
	m.ok("status")
	require.NoError(t, os.Remove(m.path("Mods/taller-cranes/mod.txt")))
	m.ok("identify")
	require.Contains(t, m.ok("status").out, "1 file of yours is gone (Mods/taller-cranes/mod.txt)")
}

func TestAFolderOfTwoBuildsSaysWhichFilesComeFromWhich(t *testing.T) {
	t.Parallel()
	m := newMarketOf(t, "1.1.1", &standin.Service{Dir: must(smallFeed())}, standin.Quay{Bytes: 2_000_000})
	m.ok("feed", "add", m.address)
	older := t.TempDir()
	require.NoError(t, m.quay.Write(older, "1.0.0"))
	b, err := os.ReadFile(filepath.Join(older, "bin", "quay.exe"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(m.path("bin/quay.exe"), b, 0o755))
	require.Contains(t, m.ok("identify").out, "1 file (bin/quay.exe) is as in 1.0.0 (public).")
	origins := m.json(0, "identify")["origins"].([]any)
	require.Equal(t, map[string]any{"build": "1.0.0", "channel": "public", "files": []any{"bin/quay.exe"}}, origins[0])
}

// TestABuildIsHereWhetherAFeedOffersItOrNot: and components that the game does not have do not count.
func TestABuildIsHereWhetherAFeedOffersItOrNot(t *testing.T) {
	t.Parallel()
	m := newMarketOf(t, "1.1.0", &standin.Service{Dir: must(smallFeed())}, standin.Quay{Bytes: 2_000_000})
	m.ok("feed", "add", m.address)
	m.ok("pin", "1.1.1", "--yes")
	here := func() any {
		for _, b := range m.json(0, "builds")["builds"].([]any) {
			if b := b.(map[string]any); b["label"] == "1.1.1" {
				require.Positive(t, b["here_of_bytes"])
				return b["here_of_bytes"].(float64) - b["here_bytes"].(float64)
			}
		}
		return "not listed"
	}
	require.Zero(t, here(), "voices-fr is not wanted")
	require.Regexp(t, `(?m)^1\.1\.1 .* all `, m.ok("builds").out)
	m.ok("feed", "remove", "quay-archive", "--yes")
	require.Zero(t, here())
}

// TestACarryTakesNobodysWordForWhatIsYours: where no build is known, everything might be the game's.
func TestACarryTakesNobodysWordForWhatIsYours(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("bin/quay.exe", "program")
	w.write("settings.ini", "mine")
	other := filepath.Join(w.dir, "copy")
	require.NoError(t, os.CopyFS(other, os.DirFS(w.live)))
	for p, text := range map[string]string{"bin/quay.exe": "another program", "Mods/a.txt": "theirs", "settings.ini": "theirs"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(other, p)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(other, p), []byte(text), 0o644))
	}
	w.ok("add", "quay", w.live)
	w.fails(1, "nothing tells your own files from the game's", "carry", other, "--yes")
	r := w.ok("carry", other, "Mods/**", "settings.ini", "--conflict", "mine", "--yes")
	require.Contains(t, r.out, "1 file was brought from "+other+". 1 file differs and stays as it is here.")
	require.Equal(t, "mine", w.read("settings.ini"))
	require.Equal(t, "theirs", w.read("Mods/a.txt"))
	w.ok("undo", "--yes")
	w.ok("game", "set", "--keep", "Mods/**")
	require.EqualValues(t, 0, w.json(0, "carry", other, "--conflict", "theirs", "--yes")["totals"].(map[string]any)["replaced"], "only keep rules say whose it is")
	require.Equal(t, "program", w.read("bin/quay.exe"))
	require.Equal(t, "theirs", w.read("Mods/a.txt"))
}

// TestAServerThatIgnoresRangesCostsWhatThePlanSays: each pack comes once, or nothing does.
func TestAServerThatIgnoresRangesCostsWhatThePlanSays(t *testing.T) {
	t.Parallel()
	dir, err := publishedFeed()
	require.NoError(t, err)
	m := newMarketOn(t, "1.3.0", &standin.Service{Dir: dir})
	m.ok("feed", "add", m.address)
	m.service.Misbehave(standin.Faults{NoRanges: true})
	plan := m.ok("pin", "1.0.0", "--dry-run").out
	require.Contains(t, plan, "is wanted: the server sends whole files only")
	announced := int64(m.json(0, "pin", "1.0.0", "--dry-run")["fetch_bytes"].(float64))
	packs, err := filepath.Glob(filepath.Join(dir, "packs", "*"))
	require.NoError(t, err)
	before := m.service.Stats()
	m.ok("pin", "1.0.0", "--yes")
	after := m.service.Stats()
	m.isBuild("1.0.0", "base", "voices-en")
	require.LessOrEqual(t, after.Packs-before.Packs, len(packs)+1, "each once, and one head to see what the server does")
	require.InDelta(t, announced, after.Bytes-before.Bytes, 0.2*float64(announced)+300_000)
}

// TestAnArchiveWithOneTopFolderIsTakenFromInside: else its files would stand beside the game.
func TestAnArchiveWithOneTopFolderIsTakenFromInside(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	file := filepath.Join(w.dir, "friend.zip")
	zipOf := func(prefix string) {
		f, err := os.Create(file)
		require.NoError(t, err)
		z := zip.NewWriter(f)
		require.NoError(t, filepath.WalkDir(w.live, func(p string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			rel, _ := filepath.Rel(w.live, p)
			out, err := z.Create(prefix + filepath.ToSlash(rel))
			require.NoError(t, err)
			b, err := os.ReadFile(p)
			require.NoError(t, err)
			_, err = out.Write(b)
			return err
		}))
		require.NoError(t, errors.Join(z.Close(), f.Close()))
	}
	zipOf("Cinder Quay/")
	w.fails(4, `say which folder of it is the game: --inside "Cinder Quay"`, "import", file, "friend")
	require.NotContains(t, w.ok("builds").out, "friend")
	require.Contains(t, w.ok("import", file, "friend", "--yes").err, "does not resemble")
	require.Contains(t, w.ok("diff", "1.1.1", "friend").out, "are the same")
	w.ok("import", file, "nested", "--inside", ".")
	require.Equal(t, 3, w.run("diff", "1.1.1", "nested", "--quiet").code)

	// Of a folder that is managed, Morvant's own part is left out.
	zipOf("")
	require.Contains(t, w.ok("import", file, "managed").err, ".morvant in it is Morvant's own")
	require.Equal(t, 0, w.run("diff", "friend", "managed", "--quiet").code)

	// Mods are not the game.
	f, err := os.Create(file)
	require.NoError(t, err)
	z := zip.NewWriter(f)
	out, err := z.Create("Brighter Lamps/lamps.dat")
	require.NoError(t, err)
	_, err = out.Write([]byte("bright"))
	require.NoError(t, errors.Join(err, z.Close(), f.Close()))
	require.Contains(t, w.ok("import", file, "mods").err, "does not resemble")
}

// TestAFetchedBuildCanBeForgotten: its space comes back, and the feed still offers it.
func TestAFetchedBuildCanBeForgotten(t *testing.T) {
	t.Parallel()
	m := newMarketOf(t, "1.1.0", &standin.Service{Dir: must(smallFeed())}, standin.Quay{Bytes: 2_000_000})
	m.ok("feed", "add", m.address)
	m.ok("fetch", "1.0.0")
	m.ok("pin", "1.1.0", "--yes")
	m.fails(4, "is held", "builds", "forget", "public/1.1.0", "--yes")
	m.fails(4, "nothing of it is recorded here", "builds", "forget", "1.3.0", "--yes")
	require.Contains(t, m.ok("store", "show").out, "1.0.0")
	m.ok("builds", "forget", "1.0.0", "--yes")
	require.NotContains(t, m.ok("store", "show").out, "1.0.0")
	require.Contains(t, m.ok("builds").out, "1.0.0")
	m.ok("store", "trim", "--yes")
	m.ok("verify")
	m.ok("fetch", "1.0.0")
}

// TestOneComponentGoesIntoAnyFolder: without what no build works without.
func TestOneComponentGoesIntoAnyFolder(t *testing.T) {
	t.Parallel()
	m := newMarketOf(t, "1.3.0", &standin.Service{Dir: must(smallFeed())}, standin.Quay{Bytes: 2_000_000})
	m.ok("feed", "add", m.address)
	out := filepath.Join(m.dir, "french")
	m.fails(2, "--only goes with --component", "export", "1.1.1", out, "--only")
	m.fails(1, "not fetched yet", "export", "1.1.1", out, "--component", "voices-fr", "--only")
	m.ok("fetch", "1.1.1", "--component", "voices-fr", "--only")
	require.NoError(t, os.MkdirAll(out, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(out, "mine.txt"), []byte("mine"), 0o644))
	m.ok("export", "1.1.1", out, "--component", "voices-fr", "--only")
	want := t.TempDir()
	require.NoError(t, m.quay.Write(want, "1.1.1"))
	got := contentOf(t, out, nil)
	require.Contains(t, got, "mine.txt")
	delete(got, "mine.txt")
	require.Equal(t, contentOf(t, want, []string{"voices-fr"}), got)
	m.ok("export", "1.1.1", out, "--component", "voices-fr", "--only") // all of it is there
	for p := range got {
		require.NoError(t, os.WriteFile(filepath.Join(out, filepath.FromSlash(p)), []byte("changed"), 0o644))
		break
	}
	m.fails(1, "and not the same", "export", "1.1.1", out, "--component", "voices-fr", "--only")
	m.fails(1, "it lies in lane main of quay", "export", "1.1.1", m.path("french"), "--component", "voices-fr", "--only")
	m.ok("fetch", "1.1.1")
	m.ok("feed", "remove", "quay-archive", "--yes")
	m.fails(1, "no feed offers it any more", "export", "1.1.1", filepath.Join(m.dir, "english"), "--component", "voices-en", "--only")
}

// TestAPlayersFileStaysThePlayersAfterAnEdit: and a pin says what it does not take over from the last.
func TestAPlayersFileStaysThePlayersAfterAnEdit(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("data.pak", "game")
	w.write("tide.txt", "low")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.write("tide.txt", "high")
	w.ok("snapshot", "2")
	w.write("settings.ini", "width = 800\n")
	w.ok("pin", "1", "--edit", `settings.ini:^width = (\d+)=1280`, "--overlay", "2:tide.txt", "--companion", "note.txt=x", "--yes")
	require.Equal(t, "width = 1280\n", w.read("settings.ini"))
	require.Equal(t, "high", w.read("tide.txt"))
	r := w.ok("pin", "1", "--plain", "--yes")
	require.Equal(t, "width = 800\n", w.read("settings.ini"), "it is not the game's to remove, and gets its value back")
	for _, words := range []string{`the edit of settings.ini that sets "1280" is not part of the new pin`, "the overlay tide.txt of snapshot/2 is not part", "the companion note.txt is not part"} {
		require.Contains(t, r.err, words)
	}
	require.Equal(t, "low", w.read("tide.txt"))
}

// TestFilesForAnOverlayAreNoBuild: neither what a drift leads to, nor the newest, nor something to pin.
func TestFilesForAnOverlayAreNoBuild(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for i := range 6 {
		w.write(fmt.Sprintf("data/%d.pak", i), fmt.Sprint("game ", i))
	}
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	patch := filepath.Join(w.dir, "patch")
	require.NoError(t, os.MkdirAll(filepath.Join(patch, "data"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(patch, "data", "0.pak"), []byte("patched"), 0o644))
	builds := len(w.json(0, "builds", "--all")["builds"].([]any))
	for _, args := range [][]string{{"pin", "1", "--overlay", patch + ":**", "--dry-run"}, {"pin", "1", "--overlay", patch + ":**"}} {
		w.run(args...)
		require.Len(t, w.json(0, "builds", "--all")["builds"], builds, "%v leaves no record", args)
	}
	w.ok("pin", "1", "--overlay", patch+":**", "--yes")
	require.Equal(t, "patched", w.read("data/0.pak"))
	require.Regexp(t, `overlay .*for overlays`, w.ok("builds", "--all").out)
	for i := 1; i < 4; i++ {
		require.NoError(t, os.Remove(w.path(fmt.Sprintf("data/%d.pak", i))))
	}
	require.NotContains(t, w.run("status").out, "looks like an update")
	require.NotContains(t, w.ok("identify").out, "overlay")
	require.Contains(t, w.ok("pin", "newest", "--dry-run").out, "pin to 1 of")
	w.fails(1, "not a build", "pin", "overlay", "--yes")
	w.ok("verify", "--repair", "--yes")
	w.ok("lane", "new", "two", "--from", "lane/main", "--dry-run")
	require.Len(t, w.json(0, "builds", "--all")["builds"], builds+1)
}
