package plan

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/scan"
)

// step returns the step of a path.
func (p *Plan) step(t *testing.T, path string) *Step {
	t.Helper()
	for i := range p.Steps {
		if p.Steps[i].Path == path {
			return &p.Steps[i]
		}
	}
	require.Fail(t, "no step", path)
	return nil
}

func made(t *testing.T, r Request) *Plan {
	t.Helper()
	p, err := Make(r)
	require.NoError(t, err)
	perform(t, r.Have, p.Steps)
	return p
}

func extra(p *Plan) (paths []string) {
	for _, e := range p.Extra {
		paths = append(paths, e.Path)
	}
	return paths
}

func TestOfTwoFilesWithTheContentOneMoves(t *testing.T) {
	p := made(t, Request{Have: state("x=long", "y=long"), Want: state("a=long")})
	require.Equal(t, []string{"move x to a", "remove x"}, show(p))
	require.Equal(t, []string{"y"}, extra(p))
	p = made(t, Request{Have: state("x=long", "y=long", "z=long"), Want: state("a=long", "b=long")})
	require.Equal(t, []string{"move x to a", "move y to b", "remove x", "remove y"}, show(p))
	require.Equal(t, []string{"z"}, extra(p))
}

func TestAnEmptyFileOfThePlayersIsNotTakenForTheBuilds(t *testing.T) {
	p := made(t, Request{Have: state("mine="), Want: state("a=")})
	require.Equal(t, []string{"add a"}, show(p))
	require.Equal(t, []string{"mine"}, extra(p))
	require.Empty(t, p.step(t, "a").From)
	require.Empty(t, p.step(t, "a").Copy)
}

func TestContentThatStaysIsCopied(t *testing.T) {
	p := made(t, Request{Have: state("a=long"), Want: state("a=long", "b=long")})
	require.Equal(t, "a", p.step(t, "b").Copy)
	require.Empty(t, p.step(t, "b").From)
	// What leaves its place is moved rather, and cannot be copied from.
	p = made(t, Request{Have: state("a=long"), Want: state("a=other", "b=long", "c=long")})
	require.Equal(t, "a", p.step(t, "b").From)
	require.Empty(t, p.step(t, "c").From)
	require.Empty(t, p.step(t, "c").Copy)
}

func TestAnEmptyFolderMakesWayForAFile(t *testing.T) {
	p := made(t, Request{Have: state("e/"), Want: state("e=1")})
	require.Equal(t, []string{"add e"}, show(p))
	require.Equal(t, Dir, p.step(t, "e").Before.Kind)
}

func TestFoldersGetTheirTimesAndModes(t *testing.T) {
	want := state("new/a=1", "old/a=2")
	for i := range want {
		if want[i].Kind == Dir {
			want[i].Mode, want[i].MTime = 0o750, 7
		}
	}
	p := made(t, Request{Have: state("old/a=1"), Want: want})
	for _, dir := range []string{"new", "old"} {
		after := p.step(t, dir).After
		require.Equal(t, Node{Kind: Dir, Mode: 0o750, MTime: 7}, *after, dir)
	}
	// The top is no entry, and a folder in which nothing changes is left alone.
	p = made(t, Request{Have: state("old/a=2"), Want: want})
	require.Len(t, p.Steps, 2, "new and new/a")
}

func TestAFileThatOnlyGetsItsTimeIsTheSame(t *testing.T) {
	want := state("a=1", "b=2")
	want[0].MTime = 9
	p := made(t, Request{Have: state("a=1", "b=2"), Want: want})
	require.Equal(t, 2, p.Same)
	require.Equal(t, 1, p.Totals().Retimed)
	require.Zero(t, p.Totals().Write)
}

func TestAStateOfAManifestAndBack(t *testing.T) {
	d := digest.Of([]byte("1"))
	m := &manifest.Manifest{
		Files: []manifest.File{{Path: "d/a", Size: 1, Digest: d}}, Links: []manifest.Link{{Path: "d/l", Target: "a"}}, EmptyDirs: []string{"e/f"},
	}
	for _, a := range []*manifest.Attributes{nil, manifest.NewAttributes()} {
		require.Equal(t, State{
			{"d", Node{Kind: Dir}}, {"d/a", Node{Kind: File, Size: 1, Digest: d}}, {"d/l", Node{Kind: Link, Target: "a"}}, {"e", Node{Kind: Dir}}, {"e/f", Node{Kind: Dir}},
		}, FromManifest(m, a))
	}
	a := manifest.NewAttributes()
	a.Files["d/a"] = manifest.Attribute{Mode: 0o755, MTime: time.Unix(3, 4)}
	a.Dirs["d"] = manifest.Attribute{Mode: 0o700}
	s := FromManifest(m, a)
	require.Equal(t, Node{Kind: File, Size: 1, Digest: d, Mode: 0o755, MTime: 3_000_000_004}, s[1].Node)
	require.Equal(t, Node{Kind: Dir, Mode: 0o700}, s[0].Node)
	require.Equal(t, m, s.Manifest())
}

func TestAStateOfAFolder(t *testing.T) {
	d := digest.Of([]byte("12"))
	got := FromTree(&scan.Tree{Entries: []scan.Entry{
		{Path: "d", Kind: scan.Dir, Mode: 0o755, Stamp: scan.Stamp{MTime: 5}},
		{Path: "d/a", Kind: scan.File, Mode: 0o644, Stamp: scan.Stamp{Size: 2, MTime: 6}, Digest: d},
		{Path: "l", Kind: scan.Link, Target: "d/a", Stamp: scan.Stamp{MTime: 7}},
	}})
	require.Equal(t, State{
		{"d", Node{Kind: Dir, Mode: 0o755, MTime: 5}}, {"d/a", Node{Kind: File, Size: 2, Digest: d, Mode: 0o644, MTime: 6}}, {"l", Node{Kind: Link, Target: "d/a"}},
	}, got)
}

func TestTheFirstOfSeveralSpellingsStays(t *testing.T) {
	sp := SpellingOf(state("Data/A=1"))
	require.Equal(t, []Step{{Path: "Data/A", From: "Data/b", Copy: ""}}, sp.Steps([]Step{{Path: "data/a", From: "DATA/b"}}))
	require.Equal(t, []Step{{Path: "x", Copy: "Data/A"}}, sp.Steps([]Step{{Path: "x", Copy: "data/A"}}))
	got := sp.State(state("data/a=1", "data/A=2"))
	require.Equal(t, contents(state("Data/A=2")), contents(got), "A sorts before a")
}

func TestStepsThatCannotBeAreRefused(t *testing.T) {
	file := func(size int64) *Node { return &Node{Kind: File, Size: size} }
	good := []Step{
		{Path: "a", After: file(0)}, {Path: "a", Before: file(manifest.MaxSize), From: "b", Copy: "c/d"},
		{Path: "a", After: &Node{Kind: Dir}}, {Path: "d/l", After: &Node{Kind: Link, Target: "../a"}},
		{Path: "a", Before: &Node{Kind: Link, Target: "../out"}},
	}
	for _, s := range good {
		require.NoError(t, s.Check(), "%+v", s)
	}
	bad := []Step{
		{Path: "../a", After: file(1)}, {Path: "a", From: "/b", After: file(1)}, {Path: "a", Copy: "b/../../c", After: file(1)},
		{Path: "a", After: file(-1)}, {Path: "a", Before: file(manifest.MaxSize + 1)}, {Path: "a", After: &Node{Kind: "pipe"}},
		{Path: "a", After: &Node{Kind: Link}}, {Path: "a", After: &Node{Kind: Link, Target: "b\nc"}},
	}
	for _, s := range bad {
		require.ErrorIs(t, s.Check(), ErrFormat, "%+v", s)
	}
}

func TestASettledStateHasTheFoldersItNeeds(t *testing.T) {
	file := Node{Kind: File, Size: 1}
	require.Equal(t, State{{"d", Node{Kind: Dir, Mode: 0o700}}, {"d/a", file}, {"e", Node{Kind: Dir}}, {"e/f", file}},
		State{{"e/f", file}, {"d/a", file}, {"d", Node{Kind: Dir, Mode: 0o700}}}.settled(), "a folder keeps its mode")
	require.Equal(t, State{{"d", Node{Kind: Dir}}, {"d/a", file}}, State{{"d", file}, {"d/a", file}}.settled(), "a file in the way is dropped")
}

// TestAStepThatChangedOnlyADateTakesNoContentBack: what the player has written or deleted since stays.
func TestAStepThatChangedOnlyADateTakesNoContentBack(t *testing.T) {
	was, is, now := digest.Of([]byte("was")), digest.Of([]byte("is")), digest.Of([]byte("now"))
	before := Node{Kind: File, Size: 3, Digest: was, MTime: 1e18}
	after := before
	after.MTime = 2e18
	steps := []Step{
		{Path: "dated", Before: &before, After: &after},
		{Path: "deleted", Before: &before, After: &after},
		{Path: "same", Before: &before, After: &after},
		{Path: "written", Before: &before, After: &Node{Kind: File, Size: 2, Digest: is}},
	}
	other := Node{Kind: File, Size: 3, Digest: now, MTime: 3e18}
	got := Rewind(State{{"dated", other}, {"same", after}, {"written", other}}, steps)
	require.Equal(t, State{{"dated", other}, {"same", before}, {"written", before}}, got)
}
