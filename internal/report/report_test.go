package report

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/manifest"
)

func file(p string, size int64) manifest.File {
	return manifest.File{Path: p, Size: size, Digest: digest.Of([]byte(p))}
}

func example() Page {
	return Page{
		Game: "Cinder <Quay>", From: "1.1.1", To: "1.3.0", Made: time.Date(2031, 8, 5, 9, 0, 0, 0, time.UTC), Size: func(n int64) string { return fmt.Sprint(n, " B") },
		Changes: &manifest.Changes{
			Changed: []manifest.Changed{{Path: "data/deep/er/a.pak", Old: file("a", 100), New: file("a", 300)}},
			Added:   []manifest.File{file("data/deep/b.txt", 100), file("<script>alert(1)</script>", 7)},
			Removed: []manifest.File{file("c.txt", 50)},
			Moved:   []manifest.Moved{{From: file("old/d", 9), To: file("new/d", 9)}},
			Same:    12,
		},
		Kept:  &manifest.Changes{Added: []manifest.File{file("Mods/x", 1)}},
		Texts: []Text{{Path: "readme.txt", Old: "one\ntwo\nthree\n", New: "one\n2\nthree\nfour & <more>\n"}},
	}
}

func TestThePageShowsWhatChanges(t *testing.T) {
	var out bytes.Buffer
	n, err := example().WriteTo(&out)
	require.NoError(t, err)
	require.EqualValues(t, out.Len(), n)
	page := out.String()
	for _, words := range []string{"Cinder &lt;Quay&gt;: 1.1.1 → 1.3.0", "data/deep/er/a.pak", "&lt;script&gt;alert(1)", "four &amp; &lt;more&gt;", "1 of your own files", "old/d →"} {
		require.Contains(t, page, words)
	}
	require.NotContains(t, page, "<script>alert(1)")
	require.NotContains(t, page, "://", "it needs nothing from elsewhere")
	require.Equal(t, 1, strings.Count(page, "<script>"))
}

func TestFoldersAreSummedUp(t *testing.T) {
	v := example().view()
	require.Equal(t, Folder{Name: "data/deep", Files: 2, Bytes: 400, Total: "400 B", Changed: 75, Added: 25}, v.Folders[0])
	require.Equal(t, "(top)", v.Folders[1].Name)
	require.InDelta(t, 100*50.0/400, v.Folders[1].Removed, 0.01)
	require.Equal(t, "data/deep/er/a.pak", v.Rows[0].Path, "the biggest first")
	require.Equal(t, map[string]int{"changed": 1, "added": 2, "removed": 1, "moved": 1, "same": 12}, v.Counts)
}

func TestTextsStandSideBySide(t *testing.T) {
	require.Equal(t, []Side{
		{Left: "one", Right: "one", HasLeft: true, HasRight: true, Same: true},
		{Left: "two", Right: "2", HasLeft: true, HasRight: true},
		{Left: "three", Right: "three", HasLeft: true, HasRight: true, Same: true},
		{Right: "four", HasRight: true},
	}, SideBySide("one\ntwo\nthree\n", "one\n2\nthree\nfour\n"))
	require.Empty(t, SideBySide("same\n", "same\n"))
	long := strings.Repeat("line\n", 40)
	list := SideBySide("a\n"+long+"b\n", "c\n"+long+"d\n")
	require.Less(t, len(list), 12)
	require.Contains(t, list, Side{Gap: true})
}

func TestTheHistoryIsDrawn(t *testing.T) {
	var points []Point
	for i := range 12 {
		points = append(points, Point{Label: fmt.Sprintf("1.%d.0", i), Date: time.Date(2031, time.Month(12-i), 5, 0, 0, 0, 0, time.UTC), Bytes: int64(20+i) * 1e6, New: int64(i) * 1e5, Held: i%2 == 0})
	}
	for _, list := range [][]Point{points, points[:3], points[:1]} {
		var png, svg bytes.Buffer
		require.NoError(t, Plot(&png, "png", "Cinder Quay", list))
		require.True(t, bytes.HasPrefix(png.Bytes(), []byte("\x89PNG")))
		require.NoError(t, Plot(&svg, "svg", "Cinder Quay", list))
		for _, words := range []string{"<svg", "Cinder Quay", list[0].Label, "size of the build, MB"} {
			require.Contains(t, svg.String(), words)
		}
	}
	require.ErrorIs(t, Plot(&bytes.Buffer{}, "gif", "", points), ErrPicture)
	require.ErrorIs(t, Plot(&bytes.Buffer{}, "png", "", nil), ErrPicture)
}
