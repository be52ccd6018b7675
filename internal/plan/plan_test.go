package plan

import (
	"fmt"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/rules"
	"morvant/internal/scan"
)

// state makes a state out of "path=content", "path/" (a folder) and "path>target".
func state(list ...string) State {
	var s State
	for _, item := range list {
		if p, content, ok := strings.Cut(item, "="); ok {
			s = append(s, Entry{p, Node{Kind: File, Size: int64(len(content)), Digest: digest.Of([]byte(content)), Mode: 0o644, MTime: 1}})
		} else if p, target, ok := strings.Cut(item, ">"); ok {
			s = append(s, Entry{p, Node{Kind: Link, Target: target}})
		} else {
			s = append(s, Entry{strings.TrimSuffix(item, "/"), Node{Kind: Dir}})
		}
	}
	return s.settled()
}

// show writes a plan as lines: what happens to which path.
func show(p *Plan) []string {
	out := []string{}
	for i := range p.Steps {
		s := &p.Steps[i]
		line := s.Path
		switch {
		case s.Places() && s.From != "":
			line = "move " + s.From + " to " + s.Path
		case s.Places() && s.Displaces():
			line = "replace " + line
		case s.Places():
			line = "add " + line
		case s.Displaces() && s.After != nil:
			line = "replace by folder " + line
		case s.Displaces():
			line = "remove " + line
		case s.Before == nil:
			line = "make " + line
		case s.After == nil:
			line = "unmake " + line
		case s.After.Kind == Dir:
			continue // only its time
		default:
			line = "retime " + line
		}
		out = append(out, line)
	}
	return out
}

func TestPlans(t *testing.T) {
	keep := rules.Rules{Keep: []string{"Mods/**", "settings.ini"}, Scratch: []string{"logs/**"}}
	for name, c := range map[string]struct {
		r    Request
		want []string
		err  string
	}{
		"nothing to do":       {r: Request{Have: state("a=1", "d/b=2", "e/"), Want: state("a=1", "d/b=2", "e/")}},
		"replace":             {r: Request{Have: state("a=1"), Want: state("a=2")}, want: []string{"replace a"}},
		"add with folders":    {r: Request{Want: state("x/y/a=1")}, want: []string{"make x", "make x/y", "add x/y/a"}},
		"an empty folder":     {r: Request{Want: state("x/y/")}, want: []string{"make x", "make x/y"}},
		"extra stays":         {r: Request{Have: state("a=1", "x=9"), Want: state("a=1")}},
		"clean":               {r: Request{Have: state("a=1", "d/x=9", "e/"), Want: state("a=1"), Clean: true}, want: []string{"unmake d", "remove d/x", "unmake e"}},
		"of the build held":   {r: Request{Have: state("a=1", "x=9", "y=8"), Want: state("a=1"), Owned: state("x=9", "y=7")}, want: []string{"remove x"}},
		"moved":               {r: Request{Have: state("new/a=long"), Want: state("a=long")}, want: []string{"move new/a to a", "unmake new", "remove new/a"}},
		"swapped":             {r: Request{Have: state("a=1", "b=2"), Want: state("a=2", "b=1")}, want: []string{"move b to a", "move a to b"}},
		"kept stays":          {r: Request{Have: state("Mods/m=mine", "settings.ini=mine"), Want: state("Mods/m=old", "settings.ini=old"), Rules: keep}},
		"kept is not added":   {r: Request{Have: state("a=1"), Want: state("a=1", "Mods/m=old"), Rules: keep}},
		"kept stays clean":    {r: Request{Have: state("Mods/m=mine", "x=1"), Want: state(), Rules: keep, Clean: true}, want: []string{"remove x"}},
		"exact takes kept":    {r: Request{Have: state("Mods/m=mine", "Mods/n=new"), Want: state("Mods/m=old"), Rules: keep, Exact: true}, want: []string{"replace Mods/m", "remove Mods/n"}},
		"scratch is nobodys":  {r: Request{Have: state("a=1"), Want: state("a=1", "logs/x=1"), Rules: keep, Exact: true}},
		"kept is not moved":   {r: Request{Have: state("Mods/m=same"), Want: state("a=same"), Rules: keep}, want: []string{"add a"}},
		"file to folder":      {r: Request{Have: state("a=1"), Want: state("a/b=2")}, want: []string{"replace by folder a", "add a/b"}},
		"folder to file":      {r: Request{Have: state("a/b=2", "a/c/"), Want: state("a=1")}, want: []string{"add a", "remove a/b", "unmake a/c"}},
		"link to file":        {r: Request{Have: state("a>b"), Want: state("a=1")}, want: []string{"replace a"}},
		"link elsewhere":      {r: Request{Have: state("a>b"), Want: state("a>c")}, want: []string{"replace a"}},
		"kept in the way":     {r: Request{Have: state("Mods/m=mine"), Want: state("Mods=file"), Rules: rules.Rules{Keep: []string{"Mods/*"}}}, err: "kept by your rules"},
		"odd in the way":      {r: Request{Odd: []scan.Oddity{{Path: "a", What: "a socket"}}, Want: state("a=1")}, err: "a is a socket"},
		"odd keeps folder":    {r: Request{Have: state("d/x=1"), Odd: []scan.Oddity{{Path: "d/s", What: "a socket"}}, Want: state(), Clean: true}, want: []string{"remove d/x"}},
		"case":                {r: Request{Want: state("A=1", "a=2"), IgnoresCase: true}, err: `"A" and "a"`},
		"spelled otherwise":   {r: Request{Have: state("Data/A=1", "Data/x=9"), Want: state("data/a=1"), Owned: state("DATA/a=1"), IgnoresCase: true}},
		"spelled, replaced":   {r: Request{Have: state("Data/A=1"), Want: state("data/a=2", "data/b/c=3"), IgnoresCase: true}, want: []string{"replace Data/A", "make Data/b", "add Data/b/c"}},
		"spelled, left":       {r: Request{Have: state("Data/A=1"), Want: state(), Owned: state("data/a=1"), IgnoresCase: true}, want: []string{"unmake Data", "remove Data/A"}},
		"spelled, odd":        {r: Request{Odd: []scan.Oddity{{Path: "Mods", What: "a junction"}}, Want: state("mods/a=1"), IgnoresCase: true}, err: "Mods is a junction"},
		"empty folders":       {r: Request{Have: state("d=extra"), Want: state("d/e/")}, want: []string{"replace by folder d", "make d/e"}},
		"a folder for a file": {r: Request{Have: state("d=extra"), Want: state("d/")}, want: []string{"replace by folder d"}},
		"empty and kept":      {r: Request{Have: state("Mods/d=mine"), Want: state("Mods/d/e/", "Mods/d/e/f/"), Rules: keep}, want: nil},
		"empty and odd":       {r: Request{Odd: []scan.Oddity{{Path: "d", What: "a junction"}}, Want: state("d/e/")}, err: "d is a junction"},
		"case counts":         {r: Request{Have: state("A=1"), Want: state("a=1"), Owned: state("A=1")}, want: []string{"remove A", "move A to a"}},
		"retime":              {r: Request{Have: state("a=1"), Want: State{{"a", Node{Kind: File, Size: 1, Digest: digest.Of([]byte("1")), Mode: 0o755, MTime: 1}}}}, want: []string{"retime a"}},
	} {
		t.Run(name, func(t *testing.T) {
			p, err := Make(c.r)
			if c.err != "" {
				require.ErrorIs(t, err, ErrConflict)
				require.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			if c.want == nil {
				c.want = []string{}
			}
			require.Equal(t, c.want, show(p))
		})
	}
}

func TestTheFirstMomentOf1970IsATimeAndNoneIsNone(t *testing.T) {
	have := state("a=1")
	want := State{{"a", have[0].Node}}
	want[0].MTime = Moment(0)
	p, err := Make(Request{Have: have, Want: want})
	require.NoError(t, err)
	require.Equal(t, []string{"retime a"}, show(p))
	require.True(t, p.Steps[0].After.Time().Equal(time.Unix(0, 0)))
	steps, err := DecodeSteps(EncodeSteps(p.Steps))
	require.NoError(t, err)
	require.Equal(t, p.Steps, steps)
	want[0].MTime = 0
	p, err = Make(Request{Have: have, Want: want})
	require.NoError(t, err)
	require.Empty(t, show(p))
}

func TestTotalsCountFoldersThatHoldNothing(t *testing.T) {
	p, err := Make(Request{Have: state("old/"), Want: state("a/", "b/", "c/"), Owned: state("old/")})
	require.NoError(t, err)
	totals := p.Totals()
	require.Equal(t, 3, totals.Made)
	require.Equal(t, 1, totals.Unmade)
	require.Zero(t, totals.Added)
}

func TestTotalsCountEachFileOnce(t *testing.T) {
	p, err := Make(Request{
		Have:  state("replaced=1", "moved-from=content", "gone=xxxx", "same=s", "mine=m"),
		Want:  state("replaced=22", "moved-to=content", "added=333", "same=s"),
		Clean: true, Rules: rules.Rules{Keep: []string{"mine"}},
	})
	require.NoError(t, err)
	require.Equal(t, Totals{Replaced: 1, Added: 1, Removed: 1, Moved: 1, Write: 5, RemovedBytes: 4}, p.Totals())
	require.Equal(t, [2]int{1, 1}, [2]int{p.Same, p.Kept})
}

// perform does what steps say to a state, the way apply does to a folder.
func perform(t *testing.T, have State, steps []Step) State {
	t.Helper()
	m := make(map[string]Node)
	for _, e := range have {
		m[e.Path] = e.Node
	}
	for i := range steps {
		s := &steps[i]
		now, there := m[s.Path]
		require.Equal(t, s.Before != nil, there, "%s: before", s.Path)
		if there {
			require.True(t, now.SameContent(*s.Before), s.Path)
		}
	}
	for i := range steps {
		if s := &steps[i]; s.After == nil {
			delete(m, s.Path)
		} else {
			m[s.Path] = *s.After
		}
	}
	var out State
	for p, n := range m {
		if parent := path.Dir(p); parent != "." {
			require.Equal(t, Dir, m[parent].Kind, "%s has no folder", p)
		}
		out = append(out, Entry{p, n})
	}
	out.sort()
	return out
}

func randomState(r *rand.Rand) State {
	var list []string
	taken := map[string]bool{}
	for range r.IntN(14) {
		parts := make([]string, 1+r.IntN(3))
		for i := range parts {
			parts[i] = string(rune('a' + r.IntN(4)))
		}
		p := strings.Join(parts, "/")
		clash := taken[p]
		for q := range taken {
			clash = clash || strings.HasPrefix(q, p+"/") || strings.HasPrefix(p, q+"/")
		}
		if clash {
			continue
		}
		taken[p] = true
		list = append(list, p+[]string{"=1", "=22", "=333", "/", ">z"}[r.IntN(5)])
	}
	return state(list...)
}

func contents(s State) []string {
	var out []string
	for _, e := range s {
		out = append(out, fmt.Sprint(e.Path, e.Kind, e.Digest.Short(), e.Target))
	}
	return out
}

func TestAnExactPlanLeadsToTheTargetAndRewindLeadsBack(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		have, want := randomState(r), randomState(r)
		p, err := Make(Request{Have: have, Want: want, Exact: true})
		require.NoError(t, err)
		after := perform(t, have, p.Steps)
		require.Equal(t, contents(want), contents(after), "from %v", contents(have))

		encoded, err := DecodeSteps(EncodeSteps(p.Steps))
		require.NoError(t, err)
		back, err := Make(Request{Have: after, Want: Rewind(after, encoded), Exact: true})
		require.NoError(t, err)
		require.Equal(t, contents(have), contents(perform(t, after, back.Steps)), "back from %v", contents(want))
	}
}

func FuzzDecodeSteps(f *testing.F) {
	p, err := Make(Request{Have: state("a=1", "l>a"), Want: state("a=2", "d/b=1"), Clean: true})
	require.NoError(f, err)
	f.Add(EncodeSteps(p.Steps))
	f.Add([]byte(`{"format":"morvant-steps/1","steps":[{"path":"../x","before":{"kind":"file"}}]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		steps, err := DecodeSteps(b)
		if err != nil {
			return
		}
		for i := range steps {
			if err := steps[i].Check(); err != nil {
				t.Fatal(err)
			}
		}
	})
}

// TestPlansInAnySpelling respells what is wanted at random: the plan leads there all the
// same, and renames nothing only for its spelling.
func TestPlansInAnySpelling(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	respell := func(s State) State {
		out := slices.Clone(s)
		as := make(map[string]string)
		for i := range out {
			parts := strings.Split(out[i].Path, "/")
			for j := range parts {
				above := strings.ToLower(strings.Join(parts[:j+1], "/"))
				if as[above] == "" {
					as[above] = []string{strings.ToUpper(parts[j]), strings.ToLower(parts[j])}[r.IntN(2)]
				}
				parts[j] = as[above]
			}
			out[i].Path = strings.Join(parts, "/")
		}
		out.sort()
		return out
	}
	folded := func(s State) State {
		out := slices.Clone(s)
		for i := range out {
			out[i].Path = strings.ToLower(out[i].Path)
		}
		out.sort()
		return out
	}
	for range 2000 {
		have, want := respell(randomState(r)), randomState(r)
		p, err := Make(Request{Have: have, Want: respell(want), IgnoresCase: true, Exact: true})
		require.NoError(t, err)
		got := perform(t, have, p.Steps)
		require.Equal(t, contents(want), contents(folded(got)))
		for _, e := range got {
			for _, was := range have {
				if strings.EqualFold(e.Path, was.Path) {
					require.Equal(t, was.Path, e.Path)
				}
			}
		}
		// And back, whatever the steps' record is spelled like.
		back := Rewind(got, SpellingOf(got).Steps(p.Steps))
		require.Equal(t, contents(have), contents(back))
	}
	var none *Spelling
	require.Equal(t, "A", none.Of("A"))
	require.Equal(t, State(nil), none.State(nil))
	require.Nil(t, none.Steps(nil))
}

func TestADiskThatHoldsBothSpellingsKeepsBoth(t *testing.T) {
	paths := func(have, want []string) (list []string) {
		state := func(list []string) (s State) {
			for _, p := range list {
				s = append(s, Entry{p, Node{Kind: File}})
			}
			return s
		}
		sp := SpellingOf(state(have))
		sp.Doubles = true
		for _, e := range sp.State(state(want)) {
			list = append(list, e.Path)
		}
		return list
	}
	for _, have := range [][]string{nil, {"Data/a"}, {"data/a"}, {"Data/a", "data/a"}} {
		require.Equal(t, []string{"Data/a", "data/a"}, paths(have, []string{"Data/a", "data/a"}), have)
	}
	require.Equal(t, []string{"DATA/a", "data/a"}, paths([]string{"DATA/a"}, []string{"Data/a", "data/a"}), "one of them takes what is there")
	require.Equal(t, []string{"data/a"}, paths([]string{"data/a"}, []string{"Data/A"}))
	require.Equal(t, []string{"Data/a"}, paths([]string{"Data/a", "data/a"}, []string{"Data/a"}), "each is itself")
	require.Equal(t, []string{"data/a"}, paths([]string{"Data/a", "data/a"}, []string{"data/a"}))
}
