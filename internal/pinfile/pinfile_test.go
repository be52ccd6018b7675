package pinfile

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/state"
)

func example() *File {
	return &File{
		Game: "cinder-quay", Title: "Cinder Quay", Build: "1.1.1", Channel: "public", Digest: digest.Of([]byte("build")),
		Components: []string{"base", "voices-en"}, Keep: []string{"Mods/**"}, Feeds: []Source{{"http://127.0.0.1:4711", "RWQ"}},
		Overlays:   []Overlay{{Build: "public/1.2.0", Digest: digest.Of([]byte("other")), Components: []string{"base"}, Files: "bin/*.dll"}},
		Companions: []state.Companion{{Path: "bin/standalone.txt", Text: "240117\n"}},
		Edits:      []state.Edit{{File: "launch.cfg", Find: `^display\s*=\s*(\w+)`, Set: "windowed"}},
	}
}

func TestAPinFileIsReadAsItWasWritten(t *testing.T) {
	b, err := example().Encode()
	require.NoError(t, err)
	got, err := Decode(b)
	require.NoError(t, err)
	want := example()
	want.Format = Format
	require.Equal(t, want, got)
	again, err := got.Encode()
	require.NoError(t, err)
	require.Equal(t, string(b), string(again))
}

func TestPinFilesThatCannotBeUsed(t *testing.T) {
	b, err := example().Encode()
	require.NoError(t, err)
	text := string(b)
	change := func(old, new string) string {
		require.Contains(t, text, old)
		return strings.Replace(text, old, new, 1)
	}
	for words, content := range map[string]string{
		"newer Morvant":            change("morvant-pin/1", "morvant-pin/2"),
		"its format is":            change("morvant-pin/1", "other"),
		"line 1, column":           "no toml",
		"unknown key":              text + "\n[[step]]\nrun = 'x'\n",
		"does not give":            change(digest.Of([]byte("build")).String(), strings.Repeat("0", 64)),
		"digest":                   change(digest.Of([]byte("build")).String(), "12"),
		"has no digest":            change(digest.Of([]byte("other")).String(), strings.Repeat("0", 64)),
		"this name cannot be used": change("cinder-quay", "../../x"),
		"../standalone.txt":        change("bin/standalone.txt", "../standalone.txt"),
		"Morvant's own":            change("bin/standalone.txt", ".morvant/lane.toml"),
		"C:/launch.cfg":            change("launch.cfg", "C:/launch.cfg"),
		"must capture one":         change(`(\w+)`, `\w+`),
		"must be relative":         change("bin/*.dll", "../*.dll"),
		"must be a line":           change("windowed", `a\nb`),
		"larger than":              text + strings.Repeat("#", MaxSize),
	} {
		_, err := Decode([]byte(strings.ReplaceAll(content, "'a\\nb'", `"a\nb"`)))
		require.ErrorContains(t, err, words, words)
	}
}

func FuzzPinFile(f *testing.F) {
	b, err := example().Encode()
	require.NoError(f, err)
	f.Add(b)
	f.Add([]byte(head))
	least, err := (&File{Game: "quay", Build: "1", Digest: digest.Of([]byte("x"))}).Encode()
	require.NoError(f, err)
	for _, empty := range []string{"components", "keep", "feed", "overlay", "companion", "edit"} {
		f.Add(append([]byte(empty+" = []\n"), least...))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		file, err := Decode(b)
		if err != nil {
			return
		}
		again, err := file.Encode()
		require.NoError(t, err)
		back, err := Decode(again)
		require.NoError(t, err, "%s", again)
		require.Equal(t, file, back)
	})
}

func TestAPinFileWritesNothingThatCanBeRun(t *testing.T) {
	for _, name := range []string{"a.exe", "A.EXE", "bin/x.dll", "start.sh", "start.bat. ", "x.cmd", "lib.so", "x.ps1", "x.desktop"} {
		require.True(t, Runs(name), name)
		f := File{Game: "quay", Build: "1", Digest: digest.Of([]byte("x")), Companions: []state.Companion{{Path: strings.TrimRight(name, ". "), Text: "x"}}}
		b, err := f.Encode()
		require.NoError(t, err)
		_, err = Decode(b)
		require.ErrorIs(t, err, ErrRuns, name)
		f.Companions, f.Edits = nil, []state.Edit{{File: strings.TrimRight(name, ". "), Find: "(a)", Set: "b"}}
		b, err = f.Encode()
		require.NoError(t, err)
		_, err = Decode(b)
		require.ErrorIs(t, err, ErrRuns, name)
	}
	for _, name := range []string{"settings.ini", "bin/standalone.txt", "exe", "a.exe.txt", "launch.cfg"} {
		require.False(t, Runs(name), name)
	}
	f := File{Game: "quay", Build: "1", Digest: digest.Of([]byte("x")), Companions: []state.Companion{{Path: "start", Text: "#!/bin/sh\n"}}}
	b, err := f.Encode()
	require.NoError(t, err)
	_, err = Decode(b)
	require.ErrorIs(t, err, ErrRuns)
}

func TestAPinFileOfVersionOneIsReadAndWrittenTheSame(t *testing.T) {
	old, err := os.ReadFile(filepath.Join("..", "..", "testdata", "v1", "parts", "race.pin.toml"))
	require.NoError(t, err)
	f, err := Decode(old)
	require.NoError(t, err)
	require.Equal(t, "by the pin\n", f.Companions[0].Text)
	again, err := f.Encode()
	require.NoError(t, err)
	require.Equal(t, string(old), string(again))
}
