package edit

import (
	"bytes"
	"context"
	"encoding/binary"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/require"
)

func encode(order binary.AppendByteOrder, mark []byte, s string) []byte {
	out := mark
	for _, u := range utf16.Encode([]rune(s)) {
		out = order.AppendUint16(out, u)
	}
	return out
}

// TestOnlyTheValueChanges sets a value in texts of every encoding, with line ends and
// signs that must survive.
func TestOnlyTheValueChanges(t *testing.T) {
	const before, after = "# ünïcode 🛥\r\nmode = at-once ; why\r\n\tend", "# ünïcode 🛥\r\nmode = nie ; why\r\n\tend"
	for name, f := range map[string]func(string) []byte{
		"UTF-8":             func(s string) []byte { return []byte(s) },
		"UTF-8 with a mark": func(s string) []byte { return append([]byte("\ufeff"), s...) },
		"UTF-16, little":    func(s string) []byte { return encode(binary.LittleEndian, []byte{0xFF, 0xFE}, s) },
		"UTF-16, big":       func(s string) []byte { return encode(binary.BigEndian, []byte{0xFE, 0xFF}, s) },
		"not UTF-8 at all":  func(s string) []byte { return append([]byte(s), 0xE9, 0xFF, 0x00) },
	} {
		d := Parse(f(before))
		v, err := d.Find(t.Context(), `^mode = (\S+)`, 1)
		require.NoError(t, err, name)
		require.Equal(t, []string{"at-once"}, v.Texts, name)
		require.Equal(t, f(after), d.With(v, []string{"nie"}), name)
		require.Equal(t, f(before), d.With(v, v.Texts), name)
	}
}

func TestValuesAreFoundAsOftenAsExpected(t *testing.T) {
	d := Parse([]byte("a = 1\na = 2\nb =\n"))
	_, err := d.Find(t.Context(), `^a = (\d)`, 1)
	require.ErrorIs(t, err, ErrMatches)
	v, err := d.Find(t.Context(), `^a = (\d)`, 2)
	require.NoError(t, err)
	require.Equal(t, "a = 7\na = 8\nb =\n", string(d.With(v, []string{"7", "8"})))
	_, err = d.Find(t.Context(), `^b = ?(\d)?`, 1)
	require.ErrorIs(t, err, ErrMatches, "a group that took no part is no value")
	for _, bad := range []string{`(`, `a`, `(a)(b)`} {
		_, err := Compile(bad)
		require.Error(t, err, bad)
	}
	_, err = d.Find(t.Context(), `(a+)+$`, 1)
	require.Error(t, err, "a pattern that others take for ever over ends at once")
}

func TestOnlyTextFilesAreRead(t *testing.T) {
	dir := t.TempDir()
	_, err := Read(dir)
	require.ErrorIs(t, err, ErrMatches)
	_, err = Read(filepath.Join(dir, "nothing"))
	require.ErrorIs(t, err, os.ErrNotExist)
	large := filepath.Join(dir, "large")
	require.NoError(t, os.WriteFile(large, nil, 0o644))
	require.NoError(t, os.Truncate(large, MaxSize+1))
	_, err = Read(large)
	require.ErrorIs(t, err, ErrMatches)
}

// TestASearchIsBoundedAndCanBeInterrupted: pattern and text may both be somebody else's.
func TestASearchIsBoundedAndCanBeInterrupted(t *testing.T) {
	for _, find := range []string{"(" + strings.Repeat("a", 1000) + ")", `((?:a?b?c?){900})`} {
		_, err := Compile(find)
		require.ErrorIs(t, err, ErrTooMuch)
	}
	slow := `((?:a?){100}a{100})b`
	d := Parse([]byte(strings.Repeat("a", 4<<20)))
	_, err := d.Find(t.Context(), slow, 1)
	require.ErrorIs(t, err, ErrTooMuch)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	d = Parse([]byte(strings.Repeat("a", 1<<20)))
	_, err = d.Find(ctx, slow, 1)
	require.ErrorIs(t, err, context.Canceled)
	// What settings are like is found in the largest file.
	d = Parse(append([]byte(strings.Repeat("key = value\n", MaxSize/12-10)), "display = 1\n"...))
	v, err := d.Find(t.Context(), `^display\s*=\s*(\w+)`, 1)
	require.NoError(t, err)
	require.Equal(t, []string{"1"}, v.Texts)
}

// FuzzSettingFile reads settings in whatever coding: every byte that is not a value that was
// found stays as it is.
func FuzzSettingFile(f *testing.F) {
	f.Add([]byte("mode = 1\r\n"), "2")
	f.Add(encode(binary.LittleEndian, []byte{0xFF, 0xFE}, "mode = 1\n"), "ü")
	f.Add(encode(binary.BigEndian, []byte{0xFE, 0xFF}, "x\nmode = 🛥\n"), "")
	f.Add([]byte("\xFF\xFEm\x00o\x00d\x00e\x00=\x00\x3D\xD8"), "half a letter")
	f.Add([]byte("mode = \xE9\xFF\x00\n"), "x")
	f.Fuzz(func(t *testing.T, raw []byte, set string) {
		d := Parse(raw)
		for count := 1; count < 4; count++ {
			v, err := d.Find(t.Context(), `^mode\s*=\s*(\S*)`, count)
			if err != nil {
				continue
			}
			require.Equal(t, raw, d.WithRaw(v, v.Raw))
			changed := d.With(v, slices.Repeat([]string{set}, count))
			first, last := v.places[0][0], v.places[count-1][1]
			require.Equal(t, raw[:first], changed[:first])
			require.True(t, bytes.HasSuffix(changed, raw[last:]))
		}
	})
}

// TestALineEndIsNoPartOfAValue, whichever it is.
func TestALineEndIsNoPartOfAValue(t *testing.T) {
	for _, find := range []string{`^volume=(.*)$`, `^volume=(\d+)$`, `volume=(.+)`} {
		for _, end := range []string{"\n", "\r\n"} {
			d := Parse([]byte("# 1" + end + "volume=3" + end + "name=ada" + end))
			v, err := d.Find(t.Context(), find, 1)
			require.NoError(t, err, "%s %q", find, end)
			require.Equal(t, []string{"3"}, v.Texts)
			require.Equal(t, "# 1"+end+"volume=70"+end+"name=ada"+end, string(d.With(v, []string{"70"})))
			require.Equal(t, "# 1"+end+"volume=70"+end+"name=ada"+end, string(d.With(v, []string{strings.TrimSuffix("70"+end, "\n")})), "as an earlier version noted it")
		}
	}
	v, err := Parse([]byte("a=1\r\nb=2\n")).Find(t.Context(), `^a=(.)\r$`, 1) // of somebody who has met it
	require.NoError(t, err)
	require.Equal(t, []string{"1"}, v.Texts)
}
