package apply

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/progress"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/store"
)

// rig is a folder, a store, and a target that the store can build.
type rig struct {
	*testing.T
	dir   string
	root  *os.Root
	store *store.Store
}

func newRig(t *testing.T) *rig {
	t.Helper()
	r := &rig{T: t, dir: t.TempDir()}
	var err error
	r.root, err = os.OpenRoot(r.dir)
	require.NoError(t, err)
	r.store, err = store.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { r.root.Close(); r.store.Close() })
	return r
}

func (r *rig) file(p, content string) {
	r.Helper()
	name := filepath.Join(r.dir, filepath.FromSlash(p))
	require.NoError(r, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(r, os.WriteFile(name, []byte(content), 0o644))
}

func (r *rig) look() *scan.Tree {
	r.Helper()
	tree, err := scan.Walk(r.Context(), r.root, rules.Rules{})
	require.NoError(r, err)
	require.NoError(r, tree.Read(r.Context(), r.root, scan.Request{Sink: scan.Hash(), Meter: progress.None{}, Now: time.Now}))
	return tree
}

// job makes the job that brings the folder to the given contents.
func (r *rig) job(want map[string]string) Job {
	r.Helper()
	session := r.store.Begin()
	m := &manifest.Manifest{}
	for p, content := range want {
		d, _, err := session.Put(r.Context(), bytes.NewReader([]byte(content)), nil)
		require.NoError(r, err)
		m.Files = append(m.Files, manifest.File{Path: p, Size: int64(len(content)), Digest: d})
	}
	require.NoError(r, session.Close())
	m.Sort()
	tree := r.look()
	p, err := plan.Make(plan.Request{Have: plan.FromTree(tree), Want: plan.FromManifest(m, nil), Exact: true})
	require.NoError(r, err)
	return Job{Root: r.root, Dir: r.dir, Plan: p, Tree: tree, Store: r.store, Memo: []byte(`{"what":"test"}`), Meter: progress.None{}, Now: time.Now}
}

func (r *rig) do(job Job) {
	r.Helper()
	report, err := Do(r.Context(), job)
	require.NoError(r, err)
	require.True(r, report.Empty())
}

// recovery is what the caller of Recover knows of a change that job began.
func (r *rig) recovery() Recovery {
	return Recovery{Root: r.root, Store: r.store, Now: func() time.Time { return time.Date(2031, 8, 5, 12, 0, 0, 0, time.UTC) }}
}

func (r *rig) recover() *Ended {
	r.Helper()
	end, err := Recover(r.Context(), r.recovery())
	require.NoError(r, err)
	return end
}

func (r *rig) contents() map[string]string {
	r.Helper()
	out := map[string]string{}
	for _, e := range r.look().Entries {
		if e.Kind == scan.File {
			b, err := os.ReadFile(filepath.Join(r.dir, filepath.FromSlash(e.Path)))
			require.NoError(r, err)
			out[e.Path] = string(b)
		}
	}
	return out
}

func TestAChangeWaitsForItsMemoToBeRecorded(t *testing.T) {
	r := newRig(t)
	r.file("a", "1")
	r.do(r.job(map[string]string{"a": "2", "d/b": "3"}))
	found, err := Pending(r.root)
	require.NoError(t, err)
	require.True(t, found)
	for range 2 {
		end := r.recover()
		require.Equal(t, Finished, end.Outcome)
		require.JSONEq(t, `{"what":"test"}`, string(end.Memo))
		require.True(t, end.Report.Empty())
	}
	require.NoError(t, Finish(r.root))
	require.Equal(t, Nothing, r.recover().Outcome)
	require.Equal(t, map[string]string{"a": "2", "d/b": "3"}, r.contents())
}

func TestWhatIsDisplacedIsInTheStoreFirst(t *testing.T) {
	r := newRig(t)
	r.file("a", "precious")
	r.file("gone/b", "also precious")
	r.do(r.job(map[string]string{"a": "new"}))
	for _, content := range []string{"precious", "also precious"} {
		b, err := r.store.Bytes(t.Context(), digest.Of([]byte(content)), 100)
		require.NoError(t, err)
		require.Equal(t, content, string(b))
	}
}

func TestAFileThatAppearsMeanwhileIsNotOverwritten(t *testing.T) {
	r := newRig(t)
	r.file("a", "1")
	job := r.job(map[string]string{"a": "2", "b": "new"})
	r.file("b", "somebody else's")
	_, err := Do(t.Context(), job)
	require.ErrorIs(t, err, ErrChanged)
	require.Equal(t, map[string]string{"a": "1", "b": "somebody else's"}, r.contents())
	require.NoDirExists(t, filepath.Join(r.dir, ".morvant", "change"))
}

func TestAFolderThatFilledUpMeanwhileIsNotReplaced(t *testing.T) {
	r := newRig(t)
	r.file("d/x", "1")
	job := r.job(map[string]string{"d": "a file now"})
	r.file("d/y", "somebody else's")
	_, err := Do(t.Context(), job)
	require.ErrorIs(t, err, ErrChanged)
	require.Equal(t, map[string]string{"d/x": "1", "d/y": "somebody else's"}, r.contents())
}

func TestAChangeThatNeverBeganIsSwept(t *testing.T) {
	r := newRig(t)
	r.file("a", "1")
	r.file(".morvant/change/new/0", "half a file")
	r.file(".morvant/ended/old/3", "left over")
	end := r.recover()
	require.Equal(t, Back, end.Outcome)
	require.Nil(t, end.Memo)
	require.NoDirExists(t, filepath.Join(r.dir, ".morvant", "change"))
	require.NoDirExists(t, filepath.Join(r.dir, ".morvant", "ended"))
}

func TestASymlinkPutInTheWayIsNotFollowed(t *testing.T) {
	r := newRig(t)
	outside := t.TempDir()
	r.file("d/a", "1")
	job := r.job(map[string]string{"d/a": "2", "d/b": "3"})
	require.NoError(t, os.RemoveAll(filepath.Join(r.dir, "d")))
	require.NoError(t, os.Symlink(outside, filepath.Join(r.dir, "d")))
	_, err := Do(t.Context(), job)
	require.Error(t, err)
	list, err := os.ReadDir(outside)
	require.NoError(t, err)
	require.Empty(t, list)
}

func TestACancelledChangeLeavesNoTrace(t *testing.T) {
	r := newRig(t)
	r.file("a", "1")
	job := r.job(map[string]string{"a": "2"})
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := Do(ctx, job)
	require.ErrorIs(t, err, context.Canceled)
	require.Equal(t, map[string]string{"a": "1"}, r.contents())
}

func FuzzDecodeJournal(f *testing.F) {
	seal := func(body string) []byte {
		return append([]byte(digest.Of([]byte(body)).String()+"\n"), body...)
	}
	f.Add(seal(`{"format":"morvant-journal/1","memo":{},"steps":[{"path":"a","after":{"kind":"file"}}]}`))
	f.Add(seal(`{"format":"morvant-journal/1","memo":{},"steps":[{"path":"a","after":{"kind":"file"},"from":"b"}]}`))
	f.Add(seal(`{"format":"morvant-journal/1","steps":[{"path":"../../x","before":{"kind":"file"}}]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		// What is found is sealed again, so that the fuzzer gets past the digest.
		if _, body, ok := bytes.Cut(b, []byte("\n")); ok {
			b = seal(string(body))
		}
		j, err := decodeJournal(b)
		if err != nil {
			return
		}
		for i := range j.Steps {
			if err := manifest.CheckPath(j.Steps[i].Path); err != nil {
				t.Fatal(err)
			}
			j.source(i)
		}
	})
}
