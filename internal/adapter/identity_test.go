package adapter

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
)

// of returns a digest as it is told; of nothing for no algorithm.
func of(t *testing.T, alg, content string) string {
	if alg == "" {
		return ""
	}
	d, err := digest.ForeignOf(alg, []byte(content))
	require.NoError(t, err)
	return d.String()
}

// TestWhatAFileRestsOn: the better of the digest of the whole and those of all pieces; a name that is not strong is one
// of its subscription alone; a strong one is the same wherever it comes from.
func TestWhatAFileRestsOn(t *testing.T) {
	for _, c := range []struct {
		whole, first, second string // algorithms
		ground               Ground
		forgeable            bool
	}{
		{"sha256", "-", "", Strong, false},
		{"sha512", "", "", Strong, false},
		{"blake3", "md5", "md5", Strong, false},
		{"sha1", "-", "", Weak, false},
		{"md5", "-", "", Weak, true},
		{"", "-", "", Unchecked, false},
		{"md5", "sha256", "sha256", Strong, false},
		{"sha1", "sha256", "md5", Weak, false},
		{"md5", "sha1", "sha1", Weak, false},
		{"", "sha256", "blake3", Strong, false},
		{"", "sha256", "sha1", Weak, false},
		{"", "sha256", "", Unchecked, false},
		{"md5", "sha256", "", Weak, true},
	} {
		f := &File{Path: "a.pak", Size: 7, Digest: of(t, c.whole, "harbour")}
		if c.first != "-" {
			f.Pieces = []Piece{{Size: 4, Digest: of(t, c.first, "harb")}, {Size: 3, Digest: of(t, c.second, "our")}}
		}
		require.NoError(t, f.check())
		require.Equal(t, c.ground, f.Ground(), "%+v", c)
		require.Equal(t, c.forgeable, f.Forgeable(), "%+v", c)
		one, same, other := Teller{"one", "m"}, Teller{"one", "m"}, Teller{"two", "m"}
		require.Equal(t, one.Name(f), same.Name(f))
		require.Equal(t, c.ground == Strong, one.Name(f) == other.Name(f), "%+v crosses", c)
		require.Equal(t, c.ground == Unchecked, one.Name(f) != (Teller{"one", "n"}).Name(f), "%+v is known by its manifest", c)
		for i, p := range f.Pieces {
			d, err := digest.ParseForeign(p.Digest)
			require.Equal(t, err == nil && d.Strong(), one.PieceName(f, i) == other.PieceName(f, i), "%+v piece %d", c, i)
		}
		v := f.Verifier()
		for _, b := range []byte("harbour") {
			v.Write([]byte{b})
		}
		require.Equal(t, c.ground != Unchecked, v.Fits(), "%+v", c)
		for _, wrong := range []string{"harbouR", "Harbour", "harb", ""} {
			v := f.Verifier()
			v.Write([]byte(wrong))
			require.False(t, v.Fits(), "%+v %q", c, wrong)
		}
	}
}

// TestEveryDigestCounts: content is known by one digest of a file only if there is no other that it might not fit.
func TestEveryDigestCounts(t *testing.T) {
	by := Teller{"one", "m"}
	plain := &File{Path: "a", Size: 7, Digest: of(t, "sha256", "harbour")}
	one := &File{Path: "b", Size: 7, Pieces: []Piece{{Size: 7, Digest: plain.Digest}}}
	require.Equal(t, by.Name(plain), by.Name(one), "a file of one piece is that piece")
	require.Equal(t, by.Name(plain), by.PieceName(plain, 0))
	both := &File{Path: "c", Size: 7, Digest: of(t, "md5", "harbour"), Pieces: []Piece{{Size: 7, Digest: plain.Digest}}}
	require.NotEqual(t, by.Name(plain), by.Name(both), "it must have the md5 too")
	require.Len(t, both.Claims(), 2)
	lying := &File{Path: "d", Size: 7, Digest: plain.Digest, Pieces: []Piece{{Size: 4, Digest: of(t, "sha256", "HARB")}, {Size: 3, Digest: of(t, "sha256", "our")}}}
	require.NotEqual(t, by.Name(plain), by.Name(lying))
	v := lying.Verifier()
	v.Write([]byte("harbour"))
	require.False(t, v.Fits())

	contradicting := &File{Path: "e", Size: 7, Digest: plain.Digest, Pieces: []Piece{{Size: 7, Digest: of(t, "sha256", "fog bank")}}}
	require.ErrorContains(t, contradicting.check(), "e has two digests that contradict each other")

	tree, err := (&Manifest{Files: []File{*plain, *both, {Path: "f"}}, Folders: []string{"g"}}).Tree(by)
	require.NoError(t, err)
	require.Len(t, tree.Files, 3)
	require.Equal(t, digest.Of(nil), tree.Files[2].Digest)
}

// TestNamesOfStrongContentStay: tables that earlier versions wrote are read on.
func TestNamesOfStrongContentStay(t *testing.T) {
	d := of(t, "sha256", "abc")
	require.Equal(t, digest.Unseen(d+"/3"), Teller{}.Name(&File{Path: "a", Size: 3, Digest: d}))
	two := &File{Path: "a", Size: 6, Pieces: []Piece{{Size: 3, Digest: d}, {Size: 3, Digest: d}}}
	require.Equal(t, digest.Unseen(fmt.Sprintf("pieces\n%s/3\n%s/3\n", d, d)), Teller{}.Name(two))
	require.Equal(t, digest.Unseen(d+"/3"), Teller{}.PieceName(two, 1))
	v := two.Verifier()
	v.Write(bytes.Repeat([]byte("abc"), 2))
	require.True(t, v.Fits())
}

// FuzzAnswers: whatever an adapter answers is refused, or checked: paths, sizes, digests and places are ones that can be
// used, and what stands for content is never content.
func FuzzAnswers(f *testing.F) {
	for _, s := range []string{
		`{"files":[{"path":"a","size":3,"digest":"sha1:a9993e364706816aba3e25717850c26c9cd0d89d"}],"links":[{"path":"b","target":"a"}],"folders":["c"]}`,
		`{"files":[{"path":"a","size":4,"pieces":[{"size":3,"digest":"md5:900150983cd24fb0d6963f7d28e17f72"},{"size":1}]}]}`,
		`{"places":[{"path":"a","url":"https://quay.example/a?b","offset":3,"coding":"xz","headers":{"A":"b"}}],"expires":"2031-08-05T17:00:00Z"}`,
		`{"protocol":1,"name":"quay","sign_in":"none","channels":[{"name":"public"}]}`,
		`{"builds":[{"id":"1","date":"2031-08-05T17:00:00Z","components":[{"name":"base","manifest":"m"}]}]}`,
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		var m Manifest
		if json.Unmarshal(b, &m) == nil {
			ok := true
			for i := range m.Files {
				ok = ok && m.Files[i].check() == nil
			}
			by := Teller{"one", "m"}
			if tree, err := m.Tree(by); ok && err == nil {
				require.NoError(t, tree.Validate())
				for i := range m.Files {
					file := &m.Files[i]
					claims, ground := file.Claims(), file.Ground()
					require.Equal(t, ground == Unchecked || len(claims) > 0, true)
					require.True(t, by.Name(file).IsUnseen())
					for j := range file.Split() {
						require.True(t, by.PieceName(file, j).IsUnseen())
					}
					v := file.Verifier()
					_, _ = v.Write(b)
					_ = v.Fits()
				}
			}
		}
		var c Content
		if json.Unmarshal(b, &c) == nil {
			for i := range c.Places {
				at := &c.Places[i]
				if at.check(false) == nil && at.URL != "" {
					u, err := url.Parse(at.URL)
					require.NoError(t, err)
					require.NotEmpty(t, u.Host)
				}
			}
		}
		var said Initialized
		if json.Unmarshal(b, &said) == nil && said.check() == nil {
			require.NotEmpty(t, said.Channels)
		}
		var list Builds
		if json.Unmarshal(b, &list) == nil {
			for i := range list.Builds {
				if list.Builds[i].check() == nil {
					require.NotEmpty(t, list.Builds[i].Components)
				}
			}
		}
	})
}
