package cli_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"morvant/internal/cli"
	"morvant/internal/process"
	"morvant/internal/testdir"
)

// program is the built program that the tests run.
var program string

// scratch is a folder for what tests share.
var scratch string

// asProgram makes the test's own program behave as morvant does.
const asProgram = "MORVANT_TEST_AS_PROGRAM"

func TestMain(m *testing.M) {
	if strings.TrimSuffix(filepath.Base(os.Args[0]), ".exe") == shelfProgram {
		runShelf()
	}
	if os.Getenv(asProgram) != "" || process.Is(os.Args, process.KeeperName) || process.Is(os.Args, process.ContainedName) {
		os.Exit(cli.Main(os.Args, os.Stdin, os.Stdout, os.Stderr))
	}
	testscript.Main(tests{m}, map[string]func(){"morvant": byClock, "morvant-adapter-quay-office": byClock})
}

// tests are the tests of this package, around which scripts get their commands.
type tests struct{ *testing.M }

func (m tests) Run() int {
	// Most of a test is waiting for programs that it runs.
	several := 4
	if runtime.GOOS == "windows" {
		several = 2
	}
	_ = flag.Set("test.parallel", fmt.Sprint(several*runtime.GOMAXPROCS(0)))
	return buildAndRun(m.M)
}

func buildAndRun(m *testing.M) int {
	if stride(1) > 1 { // the whole sweeps run on a real disk
		end, err := testdir.InMemory()
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer end()
	}
	dir, err := os.MkdirTemp("", "morvant-test-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	scratch = dir
	if _, err := exec.LookPath("go"); err != nil {
		// Where there is no Go, as under Wine, this very program plays it.
		if program, err = os.Executable(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		os.Setenv(asProgram, "1")
		return m.Run()
	}
	program = filepath.Join(dir, "morvant")
	if runtime.GOOS == "windows" {
		program += ".exe"
	}
	build := exec.Command("go", "build", "-o", program, "morvant")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
		return 1
	}
	return m.Run()
}

// world is a player's computer: a home for Morvant and a game folder.
type world struct {
	t    *testing.T
	dir  string
	home string
	live string
}

func newWorld(t *testing.T) *world {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	w := &world{t: t, dir: dir, home: filepath.Join(dir, "home"), live: filepath.Join(dir, "Quay")}
	require.NoError(t, os.Mkdir(w.live, 0o755))
	return w
}

// command prepares a run of the program in the live folder.
func (w *world) command(args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Dir = w.live
	if _, err := os.Stat(w.live); err != nil {
		cmd.Dir = w.dir // it may be in between, where a switch has been killed
	}
	cmd.Env = append(os.Environ(), "MORVANT_HOME="+w.home, "MORVANT_GAME=", "HOME="+filepath.Join(w.dir, "user"), "USERPROFILE="+filepath.Join(w.dir, "user"), "NO_COLOR=1", "MORVANT_KEYRING=file")
	return cmd
}

// result is what a run of the program came to.
type result struct {
	out, err string
	code     int
}

func (w *world) run(args ...string) result {
	w.t.Helper()
	return w.finish(w.command(args...))
}

func (w *world) finish(cmd *exec.Cmd) result {
	w.t.Helper()
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		w.t.Fatalf("run %v: %v", cmd.Args, err)
	}
	if slices.Contains(cmd.Args, "--json") {
		checkDocuments(w.t, cmd.Args[1:], out.String())
	}
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// ok runs the program and expects it to succeed.
func (w *world) ok(args ...string) result {
	w.t.Helper()
	r := w.run(args...)
	require.Equal(w.t, 0, r.code, "morvant %v\n%s%s", args, r.out, r.err)
	return r
}

// fails runs the program and expects an exit code and, on stderr, these words.
func (w *world) fails(code int, words string, args ...string) {
	w.t.Helper()
	r := w.run(args...)
	require.Equal(w.t, code, r.code, "morvant %v\n%s%s", args, r.out, r.err)
	require.Contains(w.t, r.err, words, "morvant %v", args)
}

// json runs the program with --json and decodes what it writes.
func (w *world) json(code int, args ...string) map[string]any {
	w.t.Helper()
	r := w.run(append([]string{"--json"}, args...)...)
	require.Equal(w.t, code, r.code, "morvant %v\n%s%s", args, r.out, r.err)
	var v map[string]any
	require.NoError(w.t, json.Unmarshal([]byte(r.out), &v), r.out)
	return v
}

func (w *world) path(p string) string { return filepath.Join(w.live, filepath.FromSlash(p)) }

func (w *world) write(p, content string) {
	w.t.Helper()
	require.NoError(w.t, os.MkdirAll(filepath.Dir(w.path(p)), 0o755))
	require.NoError(w.t, os.WriteFile(w.path(p), []byte(content), 0o644))
}

func (w *world) read(p string) string {
	w.t.Helper()
	b, err := os.ReadFile(w.path(p))
	require.NoError(w.t, err)
	return string(b)
}

// age sets the time of everything in the folder well into the past, so that it is
// not as fresh as the look that is about to be taken.
func (w *world) age() {
	w.t.Helper()
	when := time.Date(2031, 1, 2, 3, 4, 5, 678_900_000, time.UTC)
	require.NoError(w.t, filepath.WalkDir(w.live, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.Type()&fs.ModeSymlink != 0 {
			return err
		}
		return os.Chtimes(p, when, when)
	}))
}

// picture is everything a player could see of a folder: content, names, times and
// modes, of files and folders, but not of Morvant's own folder nor of the top,
// whose time changes with it.
func picture(t *testing.T, dir string) map[string]string {
	t.Helper()
	seen := make(map[string]string)
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(dir, p)
		if err != nil || rel == "." {
			return err
		}
		if rel == ".morvant" {
			return filepath.SkipDir
		}
		if strings.HasPrefix(rel, ".morvant-probe-") {
			return nil // of a run that was killed; no manifest has it, and the next one clears it away
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		what := fmt.Sprintf("%v %d", info.Mode(), info.ModTime().UnixNano())
		switch {
		case d.Type()&fs.ModeSymlink != 0:
			target, err := os.Readlink(p)
			if err != nil {
				return err
			}
			what = "link to " + target
		case d.Type().IsRegular():
			b, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			what += fmt.Sprintf(" %d %x", len(b), digestOf(b))
		}
		seen[filepath.ToSlash(rel)] = what
		return nil
	}))
	return seen
}

func (w *world) picture() map[string]string {
	w.t.Helper()
	return picture(w.t, w.live)
}

// ordinary returns run for an ordinary user, who may go into the world's folders and
// write nowhere yet.
func (w *world) ordinary() func(args ...string) result {
	w.t.Helper()
	setpriv, err := exec.LookPath("setpriv")
	if err != nil || os.Getuid() != 0 {
		w.t.Skip("needs root and setpriv to become an ordinary user")
	}
	require.NoError(w.t, exec.Command("chmod", "-R", "a+rX", filepath.Dir(w.dir), filepath.Dir(program)).Run())
	return func(args ...string) result {
		cmd := w.command(args...)
		cmd.Args = append([]string{"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", program}, cmd.Args[1:]...)
		cmd.Path = setpriv
		return w.finish(cmd)
	}
}

// outside is ok in another folder than the live one, which may be gone.
func (w *world) outside(args ...string) result {
	w.t.Helper()
	cmd := w.command(args...)
	cmd.Dir = w.dir
	r := w.finish(cmd)
	require.Equal(w.t, 0, r.code, "%v: %s%s", args, r.out, r.err)
	return r
}
