package modlist

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/problem"
)

func list() *List {
	return Of("quay", "trees", "tall ones", []string{"1.1.0"}, &manifest.Manifest{Files: []manifest.File{
		{Path: "Mods/a.txt", Size: 1, Digest: digest.Of([]byte("a"))}, {Path: "Mods/b.txt", Size: 2, Digest: digest.Of([]byte("bb"))},
	}})
}

func TestAListComesBackAsItWas(t *testing.T) {
	b, err := list().Encode()
	require.NoError(t, err)
	got, err := Decode(b)
	require.NoError(t, err)
	want := list()
	want.Format = Format
	require.Equal(t, want, got)
}

func TestAListOfSomebodyElsesIsChecked(t *testing.T) {
	b, err := list().Encode()
	require.NoError(t, err)
	text := string(b)
	for from, to := range map[string]string{
		"Mods/a.txt": "../a.txt", "Mods/b.txt": "Mods/a.txt", "size = 1": "size = -1", "name = 'trees'": "name = '../x'", "tall ones": "tall\\u001b",
		"[[file]]": "[[program]]", "'1.1.0'": "'a/b'", Format: "other/1",
	} {
		require.Contains(t, text, from)
		_, err := Decode([]byte(strings.ReplaceAll(strings.Replace(text, from, to, 1), "'tall\\u001b'", `"tall\u001b"`)))
		require.ErrorIs(t, err, ErrFormat, to)
	}
	_, err = Decode([]byte(strings.Replace(text, Format, "morvant-mod-list/9", 1)))
	require.ErrorIs(t, err, problem.ErrNewer)
	_, err = Decode([]byte("format = '" + Format + "'\ngame = 'q'\nname = 'x'\nfile = []\n"))
	require.ErrorIs(t, err, ErrFormat, "a set has at least one file")
}

func FuzzModList(f *testing.F) {
	b, err := list().Encode()
	require.NoError(f, err)
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := Decode(b)
		if err != nil {
			return
		}
		if err := l.Manifest().Validate(); err != nil {
			t.Fatal(err)
		}
	})
}
