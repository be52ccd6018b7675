package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/standin"
)

// TestAFriendReachesTheSameByAPinFile plays two computers, each with a home and a feed
// mirror of its own.
func TestAFriendReachesTheSameByAPinFile(t *testing.T) {
	t.Parallel()
	ada := newMarket(t, "1.3.0")
	ada.ok("feed", "add", ada.address)
	ada.ok("pin", "public/1.1.1", "--yes", "--overlay", "public/1.2.0:readme.txt", "--companion", `bin/standalone.txt=240117\n`, "--edit", `version.txt:^Cinder Quay (\S+)=race`)
	file := filepath.Join(ada.dir, "race.pin.toml")
	ada.ok("pinfile", "write", file)
	ada.fails(1, "exists", "pinfile", "write", file)
	require.Contains(t, ada.ok("pinfile", "write").out, `build = '1.1.1'`)

	ben := newMarket(t, "1.0.0")
	before := ben.picture()
	ben.fails(1, "this build is not known here", "pinfile", "show", file)
	require.Contains(t, ben.run("pinfile", "apply", file, "--yes").err, "morvant feed add "+ada.address)
	require.Equal(t, before, ben.picture())
	ben.ok("feed", "add", ben.address)
	shown := ben.ok("pinfile", "show", file)
	require.Contains(t, shown.out, "The file pins")
	require.Contains(t, shown.out, "to fetch:")
	require.Equal(t, before, ben.picture())
	ben.ok("pinfile", "apply", file, "--yes")
	require.Equal(t, "Cinder Quay race\n", ben.read("version.txt"))
	require.Equal(t, "240117\n", ben.read("bin/standalone.txt"))
	require.Equal(t, contentOf(t, ada.live, nil), contentOf(t, ben.live, nil), "the same, byte for byte")
	mine, theirs := ada.json(0, "status"), ben.json(0, "status")
	require.Equal(t, mine["build"].(map[string]any)["digest"], theirs["build"].(map[string]any)["digest"])

	require.Contains(t, ben.ok("compare-with", file).out, "The same. Both are 1.1.1")
	status := filepath.Join(ada.dir, "status.json")
	require.NoError(t, os.WriteFile(status, []byte(ada.ok("--json", "status").out), 0o644))
	ben.ok("compare-with", status)
	ben.ok("pin", "public/1.1.1", "--yes", "--plain", "--companion", "bin/standalone.txt=other")
	other := ben.run("compare-with", file)
	require.Equal(t, 3, other.code)
	require.Contains(t, other.out, "readme.txt (overlay of public/1.2.0)")
	ben.ok("pinfile", "apply", file, "--yes")
	ben.write("readme.txt", "changed here")
	require.Contains(t, ben.run("compare-with", status).out, "changed here   readme.txt")
	require.Equal(t, 3, ben.run("compare-with", file).code)
	ben.ok("pin", "public/1.0.0", "--yes")
	different := ben.json(3, "compare-with", file)
	require.NotEmpty(t, different["differs"])
	require.Equal(t, false, different["same"])
}

// TestTheSameContentUnderAnotherLabelIsTheSame: one has it by an overlay, the other as a build.
func TestTheSameContentUnderAnotherLabelIsTheSame(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("data.pak", "old")
	w.write("readme.txt", "old")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.write("readme.txt", "new")
	w.ok("snapshot", "theirs")
	w.ok("pin", "theirs", "--yes")
	status := filepath.Join(w.dir, "status.json")
	require.NoError(t, os.WriteFile(status, []byte(w.ok("--json", "status").out), 0o644))
	w.ok("pin", "1", "--overlay", "theirs:readme.txt", "--yes")
	require.Equal(t, "new", w.read("readme.txt"))
	require.Contains(t, w.ok("compare-with", status).out, "The same.")
	w.ok("pin", "1", "--plain", "--yes")
	require.Equal(t, 3, w.run("compare-with", status).code)
}

func TestPinFilesThatMeanSomethingElse(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes")
	text := w.ok("pinfile", "write").out
	write := func(content string) string {
		name := filepath.Join(w.dir, "a.pin.toml")
		require.NoError(t, os.WriteFile(name, []byte(content), 0o644))
		return name
	}
	before := w.picture()
	other := text
	for _, key := range []string{"digest = '", "content = '"} {
		at := strings.Index(other, key) + len(key)
		other = other[:at] + "00ff" + other[at+4:]
	}
	w.fails(1, "this label means other content here", "pinfile", "apply", "--yes", write(other))
	w.fails(1, "newer Morvant", "pinfile", "show", write(strings.Replace(text, "morvant-pin/1", "morvant-pin/9", 1)))
	w.fails(1, "../out", "pinfile", "apply", "--yes", write(text+"\n[[companion]]\npath = '../out'\ntext = 'x'\n"))
	w.fails(1, "unknown key", "pinfile", "apply", "--yes", write("after_pin = ['rm -rf /']\n"+text))
	w.fails(1, "nothing", "pinfile", "show", filepath.Join(w.dir, "nothing"))
	require.Equal(t, before, w.picture())
	w.write("readme.txt", "altered")
	w.ok("pinfile", "apply", "--yes", write(text))
	require.Equal(t, before["readme.txt"], w.picture()["readme.txt"])
}

// TestWhatAPinFileWantsIsShownBeforeAnythingIsAsked: the texts it writes, and how much of
// the build its keep rules take out of everybody's sight.
func TestWhatAPinFileWantsIsShownBeforeAnythingIsAsked(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes")
	text := w.ok("pinfile", "write").out
	file := filepath.Join(w.dir, "a.pin.toml")
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(text, "build =", "keep = ['bin/**', 'readme.txt']\nbuild =", 1)+
		"\n[[companion]]\npath = 'notes.txt'\ntext = \"one\\n\\u001b[2Jtwo\\n\"\n\n[[edit]]\nfile = 'version.txt'\nfind = '^Cinder Quay (\\S+)'\nset = 'race'\n"), 0o644))
	files := 0
	for p, is := range w.picture() {
		if p != "readme.txt" && !strings.HasPrefix(p, "bin/") || strings.HasPrefix(is, "d") {
			continue
		}
		files++
	}
	require.Greater(t, files, 1)
	rules := fmt.Sprintf("%d files of the build", files)
	for _, args := range [][]string{{"pinfile", "show", file}, {"pinfile", "apply", file, "--dry-run"}} {
		shown := w.ok(args...).out
		require.Contains(t, shown, "It writes notes.txt, 12 B:\n    | one\n    | ", args)
		require.Contains(t, shown, "[2Jtwo", args)
		require.NotContains(t, shown, "\x1b[2J", args)
		require.Contains(t, shown, "In version.txt, it sets what this finds, to \"race\":\n    | ^Cinder Quay (\\S+)", args)
		require.Contains(t, shown, rules+" stay as they are too: keep or scratch rules cover them", args)
	}
	j := w.json(0, "pinfile", "show", file)
	require.EqualValues(t, files, j["left_to_rules"])
	require.Len(t, j["companions"], 1)
	require.Len(t, j["edits"], 1)

	w.ok("pinfile", "apply", file, "--yes")
	w.write("readme.txt", "tampered with")
	verified := w.ok("verify").out
	require.Contains(t, verified, rules+" under keep or scratch rules: not checked")
	require.NotContains(t, verified, "every byte of it")
	require.EqualValues(t, files, w.json(0, "verify")["drift"].(map[string]any)["left_to_rules"])
	status := w.ok("status").out
	require.NotContains(t, status, "Every file is as it should be")
	require.Contains(t, status, fmt.Sprintf("%d are left to rules", files))
}

func TestBuildsInOpenFormats(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	require.NoError(t, os.MkdirAll(w.path("empty/folder"), 0o755))
	w.ok("snapshot", "all")
	before := w.picture()
	for _, format := range []string{"zip", "tar.zst", "bagit"} {
		name := filepath.Join(w.dir, "quay."+format)
		w.ok("export", "all", name)
		require.Equal(t, format != "bagit", w.run("export", "all", name).code == 1, "a bag is gone on with")
		w.ok("import", name, "from-"+format)
		builds := w.json(0, "builds")["builds"].([]any)
		require.Equal(t, "from-"+format, builds[0].(map[string]any)["label"])
		if format != "bagit" {
			require.Equal(t, builds[len(builds)-2].(map[string]any)["digest"], builds[0].(map[string]any)["digest"])
		}
		w.ok("pin", "from-"+format, "--yes")
		now := w.picture()
		require.Equal(t, before["data/harbour.pak"], now["data/harbour.pak"])
		w.ok("unpin", "--yes")
	}
	for format, tool := range map[string]string{"b3sums": "b3sum", "sha256sums": "sha256sum"} {
		name := filepath.Join(w.dir, "sums."+format)
		w.ok("export", "all", name)
		if path, err := exec.LookPath(tool); err == nil {
			check := exec.Command(path, "--check", "--quiet", name)
			check.Dir = w.live
			out, err := check.CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
		require.Contains(t, w.ok("compare-with", name).out, "Every file of the list is here")
	}
	w.write("readme.txt", "altered")
	require.Contains(t, w.run("compare-with", filepath.Join(w.dir, "sums.b3sums")).out, "differs        readme.txt")
	w.fails(2, "say in which format", "export", "all", filepath.Join(w.dir, "x.rar"))
	w.fails(1, "no format that Morvant can read", "import", filepath.Join(w.dir, "sums.b3sums"))
	require.Contains(t, w.ok("import", w.live, "as-it-lies").out, "is recorded: ")
	w.fails(1, "already there", "import", filepath.Join(w.dir, "quay.zip"), "all")

	m := newMarketOn(t, "1.3.0", &standin.Service{Dir: w.feed})
	m.ok("feed", "add", m.address)
	m.fails(1, "not fetched yet", "export", "public/1.0.0", filepath.Join(m.dir, "x.zip"))
	m.ok("fetch", "public/1.0.0")
	m.ok("export", "public/1.0.0", filepath.Join(m.dir, "x.zip"), "--component", "base")
}

func TestAReportAndAPicture(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	page, plot := filepath.Join(w.dir, "r.html"), filepath.Join(w.dir, "p.svg")
	require.Contains(t, w.ok("diff", "snapshot/1.1.1", "public/1.3.0", "--report", page, "--dry-run").out, "it would write "+page)
	require.NoFileExists(t, page)
	w.ok("diff", "snapshot/1.1.1", "public/1.3.0", "--report", page)
	b, err := os.ReadFile(page)
	require.NoError(t, err)
	require.Contains(t, string(b), "data/cargo.pak")
	require.Contains(t, string(b), "have not been fetched")
	w.ok("fetch", "public/1.3.0")
	require.NoError(t, os.WriteFile(page, []byte("a file of mine"), 0o644))
	w.fails(4, "r.html is there already", "diff", "snapshot/1.1.1", "public/1.3.0", "--report", page)
	require.Contains(t, w.ok("diff", "snapshot/1.1.1", "public/1.3.0", "--report", page, "--dry-run").out, "Write over it?")
	w.fails(4, "r.html is there already", "builds", "--plot", page)
	b, err = os.ReadFile(page)
	require.NoError(t, err)
	require.Equal(t, "a file of mine", string(b))
	w.ok("diff", "snapshot/1.1.1", "public/1.3.0", "--report", page, "--yes")
	b, err = os.ReadFile(page)
	require.NoError(t, err)
	require.Contains(t, string(b), "CINDER QUAY 1.3.0")
	w.ok("builds", "--plot", plot)
	b, err = os.ReadFile(plot)
	require.NoError(t, err)
	require.Contains(t, string(b), "1.2.0")
	w.fails(1, "png or svg", "builds", "--plot", filepath.Join(w.dir, "p.gif"))
}
