package cli_test

import (
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"morvant/internal/cli"
	"morvant/internal/standin"
)

// update writes what the program says now into the scripts: go test ./internal/cli -run Scripts -update.
var update = flag.Bool("update", false, "write what the program says now into the scripts")

// scriptClock is where a script says what time it is: each run of the program takes that time.
const scriptClock = "LC_CLOCK"

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
//	same-file FILE FILE     checks that two names are of one file
//	many DIR COUNT          writes so many small files, in folders of a hundred
//	deploy FROM TO          links every file of a folder into another, as mod programs do (hard links)
//	purge FROM TO           takes those links away again
//	office [WORD...]        starts the stand-in distributor ($OFFICE) and writes password and one-time code of its account
//	                        into the file answers (named: with its name before); open: it asks nobody; listed=N, upto=BUILD and faults as of demo office
//	office-forgets          ends the sessions of everybody who has signed in there
//	office-counts MIN MAX   checks how many bytes of pieces the office has sent since it was last asked
func TestScripts(t *testing.T) {
	t.Parallel()
	runScripts(t, "script")
}

// TestStories runs the ways in which players do this job, one file each.
func TestStories(t *testing.T) {
	t.Parallel()
	runScripts(t, "stories")
}

// eachFile visits the files below a folder, by their paths from there.
func eachFile(dir string, visit func(p string) error) error {
	return filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, err := filepath.Rel(dir, p)
		if err != nil {
			return err
		}
		return visit(rel)
	})
}

// deployMods links every file of a folder into another.
func deployMods(from, to string) error {
	return eachFile(from, func(p string) error {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(to, p)), 0o755); err != nil {
			return err
		}
		return os.Link(filepath.Join(from, p), filepath.Join(to, p))
	})
}

var (
	officeLock sync.Mutex
	offices    = make(map[string]*standin.Office) // by address
	counted    = make(map[*standin.Office]int64)
)

// startOffice is the command office.
func startOffice(ts *testscript.TestScript, _ bool, args []string) {
	account := standin.HarbourAccount()
	at, err := time.ParseInLocation("2006-01-02 15:04", ts.Getenv(scriptClock), time.UTC)
	ts.Check(err)
	o := &standin.Office{
		Quay: standin.Quay{Bytes: 1_000_000}, Key: standin.PreviewKey, Now: func() time.Time { return at },
		Accounts: map[string]standin.Account{standin.Harbour: account},
	}
	var faults standin.Faults
	for _, word := range args {
		name, value, _ := strings.Cut(word, "=")
		switch name {
		case "open":
			o.Accounts = nil
		case "listed":
			o.Listed, err = strconv.Atoi(value)
			ts.Check(err)
		case "upto":
			o.Upto = value
		default:
			ts.Check(faults.ParseFault(word))
		}
	}
	where, err := o.Start()
	ts.Check(err)
	o.Misbehave(faults)
	ts.Defer(func() { o.Close() })
	code, err := account.Code(at)
	ts.Check(err)
	ts.Check(os.WriteFile(ts.MkAbs("answers"), []byte(account.Password+"\n"+code+"\n"), 0o600))
	ts.Check(os.WriteFile(ts.MkAbs("named"), []byte(standin.Harbour+"\n"+account.Password+"\n"+code+"\n"), 0o600))
	ts.Setenv("OFFICE", where)
	officeLock.Lock()
	defer officeLock.Unlock()
	offices[where] = o
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
			"same-file": func(ts *testscript.TestScript, neg bool, args []string) {
				if len(args) != 2 {
					ts.Fatalf("usage: same-file FILE FILE")
				}
				a, err := os.Stat(ts.MkAbs(args[0]))
				ts.Check(err)
				b, err := os.Stat(ts.MkAbs(args[1]))
				ts.Check(err)
				if os.SameFile(a, b) == neg {
					ts.Fatalf("%s and %s: one file is %t", args[0], args[1], !neg)
				}
			},
			"many": func(ts *testscript.TestScript, _ bool, args []string) {
				n, err := strconv.Atoi(args[1])
				ts.Check(err)
				for i := range n {
					file := filepath.Join(ts.MkAbs(args[0]), fmt.Sprintf("pack-%03d", i/100), fmt.Sprintf("file-%d.dat", i))
					ts.Check(os.MkdirAll(filepath.Dir(file), 0o755))
					ts.Check(os.WriteFile(file, fmt.Appendf(nil, "mod file %d\n", i), 0o640))
				}
			},
			"deploy": func(ts *testscript.TestScript, _ bool, args []string) {
				ts.Check(deployMods(ts.MkAbs(args[0]), ts.MkAbs(args[1])))
			},
			"purge": func(ts *testscript.TestScript, _ bool, args []string) {
				from, to := ts.MkAbs(args[0]), ts.MkAbs(args[1])
				ts.Check(eachFile(from, func(p string) error { return os.Remove(filepath.Join(to, p)) }))
			},
			"office": startOffice,
			"office-forgets": func(ts *testscript.TestScript, _ bool, _ []string) {
				officeLock.Lock()
				defer officeLock.Unlock()
				offices[ts.Getenv("OFFICE")].ExpireTickets()
			},
			"office-counts": func(ts *testscript.TestScript, _ bool, args []string) {
				officeLock.Lock()
				defer officeLock.Unlock()
				o := offices[ts.Getenv("OFFICE")]
				bytes := o.Stats().Bytes - counted[o]
				counted[o] = o.Stats().Bytes
				least, err := strconv.ParseInt(args[0], 10, 64)
				ts.Check(err)
				most, err := strconv.ParseInt(args[1], 10, 64)
				ts.Check(err)
				if bytes < least || bytes > most {
					ts.Fatalf("the office has sent %d bytes, not %d to %d", bytes, least, most)
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
