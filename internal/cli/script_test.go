package cli_test

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"morvant/internal/cli"
)

// update writes what the program says now into the scripts: go test ./internal/cli -run Scripts -update.
var update = flag.Bool("update", false, "write what the program says now into the scripts")

// scriptClock is where a script says what time it is: each run of the program takes that time.
const scriptClock = "CLOCK"

// byClock is the program in scripts: it is what cli.Main is, by the script's clock.
func byClock() {
	now := time.Now
	if at, err := time.ParseInLocation("2006-01-02 15:04", os.Getenv(scriptClock), time.Local); err == nil {
		now = func() time.Time { return at }
	}
	os.Exit(cli.MainAt(now, os.Args, os.Stdin, os.Stdout, os.Stderr))
}

// TestScripts runs the sessions in testdata/script, and the stories in testdata/stories, which the README lists. They read as a player's terminal; besides
// testscript's own commands there are:
//
//	exits CODE COMMAND...   runs a command that ends with this exit code
//	age FILE...             makes files older than any look at them
func TestScripts(t *testing.T) {
	t.Parallel()
	runScripts(t, "script")
}

// TestStories runs the ways in which players do this job, one file each.
func TestStories(t *testing.T) {
	t.Parallel()
	runScripts(t, "stories")
}

func runScripts(t *testing.T, dir string) {
	testscript.Run(t, testscript.Params{
		Dir:                 filepath.Join("testdata", dir),
		UpdateScripts:       *update,
		RequireExplicitExec: true,
		RequireUniqueNames:  true,
		Setup: func(env *testscript.Env) error {
			env.Setenv("MORVANT_HOME", filepath.Join(env.WorkDir, "home"))
			env.Setenv("MORVANT_KEYRING", "file")
			env.Setenv("HOME", filepath.Join(env.WorkDir, "user"))
			env.Setenv("USERPROFILE", filepath.Join(env.WorkDir, "user"))
			env.Setenv("NO_COLOR", "1")
			env.Setenv("TZ", "UTC")
			env.Setenv(scriptClock, "2031-08-05 09:00")
			return nil
		},
		Cmds: map[string]func(ts *testscript.TestScript, neg bool, args []string){
			"exits": func(ts *testscript.TestScript, neg bool, args []string) {
				if neg || len(args) < 2 {
					ts.Fatalf("usage: exits CODE COMMAND...")
				}
				want, err := strconv.Atoi(args[0])
				ts.Check(err)
				code := 0
				var exit *exec.ExitError
				if err := ts.Exec(args[1], args[2:]...); errors.As(err, &exit) {
					code = exit.ExitCode()
				} else {
					ts.Check(err)
				}
				if code != want {
					ts.Fatalf("%s", fmt.Sprintf("exit code %d, not %d", code, want))
				}
			},
			"age": func(ts *testscript.TestScript, _ bool, args []string) {
				old := time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC)
				for _, file := range args {
					ts.Check(os.Chtimes(ts.MkAbs(file), old, old))
				}
			},
		},
	})
}
