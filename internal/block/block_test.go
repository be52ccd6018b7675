package block

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/require"

	"morvant/internal/edit"
)

func utf16File(order binary.AppendByteOrder, mark []byte, text string) []byte {
	out := bytes.Clone(mark)
	for _, u := range utf16.Encode([]rune(text)) {
		out = order.AppendUint16(out, u)
	}
	return out
}

const state = "# edited by hand\r\nfolder = /games/quay\r\nupdates = at-once\r\n\r\ntitle = Kräne 🏗\r\n"

func TestASettingChangesAndNothingElse(t *testing.T) {
	wanted := strings.Replace(state, "at-once", "by-hand", 1)
	for name, encode := range map[string]func(string) []byte{
		"UTF-8":                  func(s string) []byte { return []byte(s) },
		"UTF-16, little-endian":  func(s string) []byte { return utf16File(binary.LittleEndian, []byte{0xFF, 0xFE}, s) },
		"UTF-16, big-endian":     func(s string) []byte { return utf16File(binary.BigEndian, []byte{0xFE, 0xFF}, s) },
		"bytes of an old system": func(s string) []byte { return bytes.ReplaceAll([]byte(s), []byte("ä"), []byte{0xE4}) },
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "state.cfg")
			require.NoError(t, os.WriteFile(file, encode(state), 0o640))
			at := Site{Dir: filepath.Dir(file)}
			h, err := Prepare(Rule{Kind: Setting, File: "state.cfg", Find: `^updates\s*=\s*([\w-]+)`, Set: "by-hand"}, at)
			require.NoError(t, err)
			require.Equal(t, []string{"at-once"}, h.Values)
			require.NoError(t, h.Set(at))
			b, err := os.ReadFile(file)
			require.NoError(t, err)
			require.Equal(t, encode(wanted), b)
			info, err := os.Stat(file)
			require.NoError(t, err)
			if runtime.GOOS != "windows" {
				require.Equal(t, os.FileMode(0o640), info.Mode().Perm())
			}
			require.True(t, h.Check(at).Holds)
			require.NoError(t, h.Set(at), "again")
			require.NoError(t, h.Lift(at, false))
			b, err = os.ReadFile(file)
			require.NoError(t, err)
			require.Equal(t, encode(state), b, "exactly as it was found")
			require.NoError(t, h.Lift(at, false), "again")
		})
	}
}

func TestASettingThatIsNotAsExpectedIsLeftAlone(t *testing.T) {
	file := filepath.Join(t.TempDir(), "state.cfg")
	at := Site{Dir: filepath.Dir(file)}
	rule := Rule{Kind: Setting, File: file, Find: `^updates = (\S+)`, Set: "by-hand"}
	_, err := Prepare(rule, at)
	require.ErrorIs(t, err, os.ErrNotExist)
	for _, text := range []string{"nothing\n", "updates = a\nupdates = b\n"} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		_, err = Prepare(rule, at)
		require.ErrorIs(t, err, edit.ErrMatches)
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Equal(t, text, string(b))
	}
	rule.Count = 2
	h, err := Prepare(rule, at)
	require.NoError(t, err)
	require.NoError(t, h.Set(at))
	require.NoError(t, os.WriteFile(file, []byte("updates = at-once\nupdates = by-hand\n"), 0o644))
	s := h.Check(at)
	require.False(t, s.Holds)
	require.Contains(t, s.Broke, `says "at-once" again`)
	require.ErrorIs(t, h.Lift(at, false), ErrTouched, "somebody has changed it since")
	require.NoError(t, h.Lift(at, true))
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, "updates = a\nupdates = b\n", string(b))
	require.NoError(t, os.Remove(file))
	require.Contains(t, h.Check(at).Broke, "is gone")
	require.NoError(t, h.Lift(at, false))
}

func TestReadOnlyFilesGetTheirModesBack(t *testing.T) {
	dir := t.TempDir()
	if runtime.GOOS == "windows" {
		readOnlyAttribute(t, dir)
		return
	}
	modes := map[string]os.FileMode{"a": 0o644, "b.exe": 0o755, "c": 0o600, "already": 0o444, "mine": 0o644}
	for p, mode := range modes {
		require.NoError(t, os.WriteFile(filepath.Join(dir, p), []byte(p), mode))
		require.NoError(t, os.Chmod(filepath.Join(dir, p), mode))
	}
	at := Site{Dir: dir, Files: []string{"a", "b.exe", "c", "already", "not-there"}}
	h, err := Prepare(Rule{Kind: ReadOnly}, at)
	require.NoError(t, err)
	require.NoError(t, h.Set(at))
	mode := func(p string) os.FileMode {
		info, err := os.Stat(filepath.Join(dir, p))
		require.NoError(t, err)
		return info.Mode().Perm()
	}
	require.Equal(t, []os.FileMode{0o444, 0o555, 0o400, 0o444, 0o644}, []os.FileMode{mode("a"), mode("b.exe"), mode("c"), mode("already"), mode("mine")})
	require.True(t, h.Check(at).Holds)
	require.NoError(t, os.Chmod(filepath.Join(dir, "a"), 0o664))
	require.Contains(t, h.Check(at).Broke, "a is writable again")
	require.NoError(t, os.Remove(filepath.Join(dir, "c")))
	require.NoError(t, h.Lift(at, false))
	require.Equal(t, []os.FileMode{0o664, 0o755, 0o444}, []os.FileMode{mode("a"), mode("b.exe"), mode("already")}, "another's mode stays")
}

// readOnlyAttribute is the same where there is one attribute instead of modes.
func readOnlyAttribute(t *testing.T, dir string) {
	for _, p := range []string{"a", "already"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, p), []byte(p), 0o644))
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "already"), 0o444))
	at := Site{Dir: dir, Files: []string{"a", "already"}}
	h, err := Prepare(Rule{Kind: ReadOnly}, at)
	require.NoError(t, err)
	require.NoError(t, h.Set(at))
	require.Error(t, os.WriteFile(filepath.Join(dir, "a"), nil, 0o644))
	require.True(t, h.Check(at).Holds)
	require.NoError(t, h.Lift(at, false))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), nil, 0o644))
	require.Error(t, os.WriteFile(filepath.Join(dir, "already"), nil, 0o644), "what was so before stays so")
	require.NoError(t, os.Chmod(filepath.Join(dir, "already"), 0o644))
}

func TestAnOccupiedPathIsGivenBack(t *testing.T) {
	dir := t.TempDir()
	at := Site{Dir: dir, Home: dir}
	staging := filepath.Join(dir, "downloads", "staging")
	h, err := Prepare(Rule{Kind: Occupy, Path: "~/downloads/staging"}, at)
	require.NoError(t, err)
	require.Equal(t, staging, h.Path)
	require.NoError(t, h.Set(at))
	require.Error(t, os.MkdirAll(filepath.Join(staging, "1"), 0o755), "nothing can be put there")
	require.True(t, h.Check(at).Holds)
	require.NoError(t, h.Lift(at, false))
	require.NoFileExists(t, staging)

	// A folder that is there, with something in it, comes back whole.
	require.NoError(t, os.MkdirAll(staging, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(staging, "half"), []byte("a download"), 0o644))
	h, err = Prepare(h.Rule, at)
	require.NoError(t, err)
	require.NoError(t, h.Set(at))
	require.NoError(t, h.Set(at), "again")
	require.True(t, h.Check(at).Holds)
	require.NoError(t, h.Lift(at, false))
	b, err := os.ReadFile(filepath.Join(staging, "half"))
	require.NoError(t, err)
	require.Equal(t, "a download", string(b))

	h, err = Prepare(h.Rule, at)
	require.NoError(t, err)
	require.NoError(t, h.Set(at))
	require.NoError(t, os.Remove(staging))
	require.NoError(t, os.Mkdir(staging, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(staging, "new"), nil, 0o644))
	require.Contains(t, h.Check(at).Broke, "something else is at")
	require.ErrorIs(t, h.Lift(at, false), ErrTouched)
	require.DirExists(t, h.Aside)

	// Held again, the new one goes aside as well; lifted, what was found comes back.
	require.NoError(t, h.Set(at))
	require.True(t, h.Check(at).Holds)
	require.Len(t, h.Later, 1)
	require.NoError(t, h.Lift(at, false))
	require.FileExists(t, filepath.Join(staging, "half"))
	require.Equal(t, []string{h.Later[0] + " stays where it is: something else is now at " + staging + ", where it came from"}, h.Left())

	// An empty folder that the launcher has made since is in nobody's way.
	require.NoError(t, os.RemoveAll(h.Later[0]))
	h, err = Prepare(h.Rule, at)
	require.NoError(t, err)
	require.NoError(t, h.Set(at))
	require.NoError(t, os.Remove(staging))
	require.NoError(t, os.Mkdir(staging, 0o755))
	require.NoError(t, h.Lift(at, false))
	require.FileExists(t, filepath.Join(staging, "half"))
	require.Empty(t, h.Left())
}

func TestAnOccupiedPathLeavesNothingBehind(t *testing.T) {
	dir := t.TempDir()
	at := Site{Dir: filepath.Join(dir, "Quay")}
	staging := filepath.Join(dir, "launcher", "content", "staging")
	h, err := Prepare(Rule{Kind: Occupy, Path: staging}, at)
	require.NoError(t, err)
	require.NoError(t, h.Set(at))
	require.FileExists(t, staging)
	require.NoError(t, h.Lift(at, false))
	require.NoDirExists(t, filepath.Join(dir, "launcher"), "folders that were made for it go with it")

	// What the launcher has made anew, where nothing was before, comes back.
	require.NoError(t, os.MkdirAll(filepath.Join(filepath.Dir(staging), "stag"), 0o755))
	h, err = Prepare(Rule{Kind: Occupy, Path: staging}, at)
	require.NoError(t, err)
	require.NoError(t, h.Set(at))
	require.NoError(t, os.Remove(staging))
	require.NoError(t, os.MkdirAll(filepath.Join(staging, "1"), 0o755))
	require.NoError(t, h.Set(at), "a folder that was made anew is put aside")
	require.True(t, h.Check(at).Holds)
	require.NoError(t, os.Mkdir(staging+"-2", 0o755))
	s := h.Check(at)
	require.False(t, s.Holds)
	require.Equal(t, staging+"-2", s.Prepared)
	require.Contains(t, s.Broke, "an updater is preparing an update in "+staging+"-2")
	require.NoError(t, h.Lift(at, false))
	require.DirExists(t, filepath.Join(staging, "1"))
	require.Empty(t, h.Left())
}

// TestRulesByKey: each kind of file, in each way that text is written, comes back to the byte, with
// its mode, its time and its other names.
func TestRulesByKey(t *testing.T) {
	files := map[string]struct{ text, key string }{
		"key-value": {"# updates = no\r\nUpdates = at-once\r\nname = Kräne\r\n", "updates"},
		"ini":       {"[other]\nupdates=never\n[game]\nupdates = \"at-once\"\n", "game/updates"},
		"json":      {"{\n \"other\": {\"updates\": \"at-once\"},\n \"quay\": {\"updates\": \"at-once\"}\n}", "quay/updates"},
		"xml":       {"<l><game id=\"1\" updates=\"at-once\"/><game id='2' updates='at-once'/></l>", "l/game[id=2]/@updates"},
		"nested":    {"\"apps\"\n{\n\t\"1\"\n\t{\n\t\t\"updates\"\t\t\"at-once\"\n\t}\n\t\"2\"\n\t{\n\t\t\"updates\"\t\t\"at-once\"\n\t}\n}\n", "apps/2/updates"},
		"registry":  {"Registry\r\n\r\n[HKCU\\Quay]\r\n\"updates\"=\"at-once\"\r\n", `HKCU\Quay/updates`},
	}
	for format, f := range files {
		for name, encode := range map[string]func(string) []byte{
			"UTF-8":                func(s string) []byte { return []byte(s) },
			"UTF-8 with mark":      func(s string) []byte { return []byte("\uFEFF" + s) },
			"UTF-16":               func(s string) []byte { return utf16File(binary.LittleEndian, []byte{0xFF, 0xFE}, s) },
			"UTF-16 without mark":  func(s string) []byte { return utf16File(binary.BigEndian, nil, s) },
			"one byte a character": func(s string) []byte { return bytes.ReplaceAll([]byte(s), []byte("ä"), []byte{0xE4}) },
		} {
			for _, key := range []string{f.key, f.key + "2"} { // the second one is missing
				file := filepath.Join(t.TempDir(), "settings")
				when := time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC)
				require.NoError(t, os.WriteFile(file, encode(f.text), 0o640))
				other := filepath.Join(filepath.Dir(file), "other name")
				require.NoError(t, os.Link(file, other))
				require.NoError(t, os.Chtimes(file, when, when))
				at := Site{Dir: filepath.Dir(file)}
				what := format + ", " + name + ", " + key
				h, err := Prepare(Rule{Kind: Setting, File: "settings", Format: format, Key: key, Set: "by-hand"}, at)
				require.NoError(t, err, what)
				require.NoError(t, h.Set(at), what)
				require.True(t, h.Check(at).Holds, what)
				same, err := os.ReadFile(other)
				require.NoError(t, err)
				require.NotEqual(t, encode(f.text), same, "%s: it is the same file still", what)
				b, err := json.Marshal(h)
				require.NoError(t, err)
				var noted Applied
				require.NoError(t, json.Unmarshal(b, &noted))
				require.NoError(t, noted.Lift(at, false), what)
				now, err := os.ReadFile(file)
				require.NoError(t, err)
				require.Equal(t, encode(f.text), now, what)
				info, err := os.Stat(file)
				require.NoError(t, err)
				require.True(t, info.ModTime().Equal(when), what)
				require.NoError(t, noted.Lift(at, false), "again")
			}
		}
	}
}

func TestAFileThatALauncherHasWrittenAnewComesOffAllTheSame(t *testing.T) {
	file := filepath.Join(t.TempDir(), "settings.json")
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o644)) }
	write(`{"a": {"updates": "x"}, "b": {"updates": "y"}}`)
	at := Site{Dir: filepath.Dir(file)}
	rule := func(key string) *Applied {
		h, err := Prepare(Rule{Kind: Setting, File: file, Format: "json", Key: key, Set: "off"}, at)
		require.NoError(t, err)
		require.NoError(t, h.Set(at))
		return h
	}
	a, b, c := rule("a/updates"), rule("b/updates"), rule("c")
	write(`{"C": "off", "B": {"UPDATES": "off"}, "A": {"Updates": "off", "more": 1}}`) // another order, another case
	for _, h := range []*Applied{a, b, c} {
		require.True(t, h.Check(at).Holds)
		require.NoError(t, h.Lift(at, false))
	}
	now, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, `{"B": {"UPDATES": "y"}, "A": {"Updates": "x", "more": 1}}`, string(now))
	// One that the launcher has dropped is put in again, and goes again.
	a = rule("a/updates")
	write(`{"A": {}}`)
	require.Contains(t, a.Check(at).Broke, "no longer has a/updates")
	require.NoError(t, a.Set(at))
	require.NoError(t, a.Lift(at, false))
	write(`{"a": 1, "A": 2}`)
	_, err = Prepare(Rule{Kind: Setting, File: file, Format: "json", Key: "a", Set: "3"}, at)
	require.ErrorContains(t, err, `the key is there twice: "1" in line 1, "2" in line 1`)
}

func TestWhatCannotBeTakenBackIsNotWritten(t *testing.T) {
	dir := t.TempDir()
	at := Site{Dir: dir}
	file := filepath.Join(dir, "f")
	for name, c := range map[string]struct {
		content string
		rule    Rule
		says    string
	}{
		"a value that does not fit its own pattern": {"updates = always\n", Rule{Find: `^updates = (always|never)`, Set: "sometimes"}, "could not be read as intended"},
		"a database": {"SQLite format 3\x00rest", Rule{Find: `(rest)`, Set: "x"}, "a database, not text"},
		"binary":     {"updates = a\x00\x01", Rule{Find: `updates = (a)`, Set: "b"}, "binary, not text"},
		"a number":   {`{"a": 1}`, Rule{Format: "json", Key: "a", Set: "often"}, "is no number"},
	} {
		require.NoError(t, os.WriteFile(file, []byte(c.content), 0o644))
		c.rule.Kind, c.rule.File = Setting, file
		_, err := Prepare(c.rule, at)
		require.ErrorContains(t, err, c.says, name)
		now, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Equal(t, c.content, string(now))
	}
	for _, r := range []Rule{
		{Kind: Setting, File: "a", Set: "b", Key: "c"}, {Kind: Setting, File: "a", Set: "b", Key: "c", Format: "toml"},
		{Kind: Setting, File: "a", Set: "b", Key: "/", Format: "ini"}, {Kind: Setting, File: "a", Set: "b", Key: "c", Format: "ini", Find: "(x)"},
		{Kind: Setting, File: "a", Set: "b", Find: "(x)", Format: "ini"}, {Kind: ReadOnly, Key: "a"}, {Kind: Occupy, Path: "x", Format: "ini"},
	} {
		require.ErrorIs(t, r.Check(), ErrRule, "%+v", r)
	}
	require.Contains(t, Rule{Kind: Setting, File: "a", Set: "b", Key: "c", Format: "ini"}.Describe(), `sets c to "b" in a`)
}

func TestRulesThatCannotBeUsed(t *testing.T) {
	for _, r := range []Rule{
		{}, {Kind: "magic"}, {Kind: Setting}, {Kind: Setting, File: "a", Find: "(", Set: "b"}, {Kind: Setting, File: "a", Find: "b", Set: "c"},
		{Kind: Setting, File: "a", Find: "(b)(c)", Set: "d"}, {Kind: Occupy}, {Kind: Occupy, Path: "a", File: "b"}, {Kind: ReadOnly, Path: "a"},
	} {
		require.ErrorIs(t, r.Check(), ErrRule, "%+v", r)
	}
	require.NoError(t, Rule{Kind: ReadOnly, Immutable: true}.Check())
	for _, r := range []Rule{{Kind: ReadOnly}, {Kind: Occupy, Path: "x"}, {Kind: Setting, File: "a", Find: "(b)", Set: "c"}} {
		require.NotEmpty(t, r.Describe())
	}
}

func TestPresetsAreFilledIn(t *testing.T) {
	dir := t.TempDir()
	list, err := Presets(dir)
	require.NoError(t, err)
	require.Len(t, list, 8)
	byName := make(map[string]*Preset)
	for _, p := range list {
		byName[p.Name] = p
		require.NotEmpty(t, p.About)
	}
	file := filepath.Join(dir, "state")
	for name, c := range map[string]struct{ before, after string }{
		"key-value-setting": {"a.b = \"at once\"\r\naxb = no\r\n", "a.b = \"never\"\r\naxb = no\r\n"},
		"json-setting":      {`{"axb": "no", "a.b" : "at-once", "c": 1}`, `{"axb": "no", "a.b" : "never", "c": 1}`},
	} {
		rules, err := byName[name].Fill(map[string]string{"file": file, "key": "a.b", "value": "never"})
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, []byte(c.before), 0o644))
		h, err := Prepare(rules[0], Site{Dir: dir})
		require.NoError(t, err, name)
		require.NoError(t, h.Set(Site{Dir: dir}))
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Equal(t, c.after, string(b), "a key is no pattern")
		require.NoError(t, h.Lift(Site{Dir: dir}, false))
	}
	_, err = byName["staging-folder"].Fill(nil)
	require.ErrorIs(t, err, ErrPreset)
	_, err = byName["staging-folder"].Fill(map[string]string{"path": "x", "more": "y"})
	require.ErrorIs(t, err, ErrPreset)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mine.toml"), []byte("abuot = \"x\"\n"), 0o644))
	_, err = Presets(dir)
	require.ErrorIs(t, err, ErrPreset)
}

func TestWhereRulesLook(t *testing.T) {
	top := t.TempDir()
	t.Setenv("QUAY_DIR", filepath.Join(top, "quay"))
	at := Site{Dir: filepath.Join(top, "live"), Home: filepath.Join(top, "ada")}
	for path, want := range map[string]string{"~/x": "ada/x", "$QUAY_DIR/y": "quay/y", "z/w": "live/z/w", "~": "ada"} {
		require.Equal(t, filepath.Join(top, filepath.FromSlash(want)), at.Watched(Rule{Kind: Occupy, Path: path}), path)
	}
	require.Empty(t, at.Watched(Rule{Kind: ReadOnly}))
}

func TestBytesThatAreNoTextComeBackAsTheyWere(t *testing.T) {
	dir := t.TempDir()
	at := Site{Dir: dir, Home: filepath.Join(dir, "ada")}
	rule := Rule{Kind: Setting, File: "state.cfg", Find: `^updates=([^\r\n]+)`, Set: "by-hand"}
	for name, content := range map[string][]byte{
		"bytes of an old system": []byte("updates=gr\xfc\xdfe\nnext=1\n"),
		"half of a pair":         append(utf16File(binary.LittleEndian, []byte{0xFF, 0xFE}, "updates=a"), append([]byte{0x00, 0xD8}, utf16File(binary.LittleEndian, nil, "b\nnext=1\n")...)...),
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(dir, "real.cfg")
			require.NoError(t, os.WriteFile(file, content, 0o640))
			link := filepath.Join(dir, "state.cfg")
			_ = os.Remove(link)
			_ = os.Symlink("real.cfg", link)
			if _, err := os.Stat(link); err != nil { // no links here
				rule.File = "real.cfg"
			}
			h, err := Prepare(rule, at)
			require.NoError(t, err)
			require.NoError(t, h.Set(at))
			kept, err := json.Marshal(h) // as it is remembered
			require.NoError(t, err)
			var again Applied
			require.NoError(t, json.Unmarshal(kept, &again))
			require.NoError(t, again.Lift(at, false))
			b, err := os.ReadFile(file)
			require.NoError(t, err)
			require.Equal(t, content, b)
			if info, err := os.Lstat(link); err == nil && rule.File == "state.cfg" {
				require.NotZero(t, info.Mode()&os.ModeSymlink, "the link is one still")
			}
		})
	}
}

func TestNoRuleHoldsMoreThanAPath(t *testing.T) {
	dir := t.TempDir()
	root := filepath.VolumeName(dir) + string(filepath.Separator)
	at := Site{Dir: filepath.Join(dir, "games", "Quay"), Home: filepath.Join(dir, "ada")}
	for path, words := range map[string]string{
		"$QUAY_NOT_SET/staging": "QUAY_NOT_SET, which is not set", "%QUAY_NOT_SET%": "which is not set", root: "root", at.Dir: "the game's folder",
		filepath.Dir(at.Dir): "the game's folder or holds it", ".": "the game's folder", "~": "your home folder", dir: "holds it",
	} {
		_, err := Prepare(Rule{Kind: Occupy, Path: path}, at)
		require.ErrorIs(t, err, ErrRule, path)
		require.ErrorContains(t, err, words, path)
	}
	_, err := Prepare(Rule{Kind: Setting, File: "$QUAY_NOT_SET/state.cfg", Find: "(a)", Set: "b"}, at)
	require.ErrorContains(t, err, "QUAY_NOT_SET, which is not set")
}
