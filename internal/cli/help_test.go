package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// commands lists every command there is, by asking the program for its help.
func commands(t *testing.T, w *world, prefix ...string) [][]string {
	t.Helper()
	var list [][]string
	r := w.run(append(append([]string{}, prefix...), "--generate-shell-completion")...)
	require.Equal(t, 0, r.code, r.err)
	for line := range strings.Lines(r.out) {
		name, _, ok := strings.Cut(strings.TrimSpace(line), ":")
		if !ok || name == "completion" || strings.Contains(line, "-") && len(prefix) > 0 && prefix[0] == "help" {
			continue
		}
		list = append(list, append(append([]string{}, prefix...), name))
	}
	return list
}

func TestEveryCommandsHelpHasAnExample(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	top := commands(t, w)
	require.Greater(t, len(top), 30)
	for _, c := range top {
		help := w.ok(append(c, "--help")...).out
		if !strings.Contains(help, "COMMANDS:") || strings.Contains(help, "Example") {
			require.Contains(t, help, "Example: morvant", "%v", c)
			require.Contains(t, help, c[0])
		}
		if strings.Contains(help, "COMMANDS:") {
			for _, sub := range commands(t, w, c...) {
				if r := w.run(append(sub, "--help")...); r.code == 0 && strings.Contains(r.out, strings.Join(sub, " ")) {
					require.Contains(t, r.out, "Example: morvant", "%v", sub)
				}
			}
		}
	}
}

func TestHelpOnTopics(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for _, topic := range []string{"words", "builds", "pinfiles", "blocks", "feeds", "lanes"} {
		text := w.ok("help", topic).out
		require.Greater(t, len(text), 300, topic)
		for line := range strings.Lines(text) {
			require.LessOrEqual(t, len([]rune(line)), 126, "%s: %s", topic, line)
		}
	}
	require.Contains(t, w.ok("help").out, "COMMANDS")
	require.Contains(t, w.ok("help", "lane", "switch").out, "morvant lane switch")
	w.fails(2, "there is no topic or command", "help", "magic")
	require.Contains(t, w.ok("manpage").out, ".TH morvant 1")
}

func TestTheManualPageIsRendered(t *testing.T) {
	t.Parallel()
	man, err := exec.LookPath("man")
	if err != nil {
		t.Skip("there is no man")
	}
	w := newWorld(t)
	page := filepath.Join(w.dir, "morvant.1")
	require.NoError(t, os.WriteFile(page, []byte(w.ok("manpage").out), 0o644))
	cmd := exec.Command(man, "--warnings", "-E", "UTF-8", "-l", page)
	cmd.Env = append(os.Environ(), "MANWIDTH=120", "MANPAGER=cat", "LC_ALL=C.UTF-8")
	r := w.finish(cmd)
	require.Equal(t, 0, r.code, r.err)
	require.Empty(t, r.err, "groff has nothing to warn of")
	for _, c := range commands(t, w) {
		require.Contains(t, r.out, "morvant "+c[0])
	}
	require.Contains(t, r.out, "Example: morvant lane switch")
	require.Contains(t, r.out, "EXIT STATUS")
}

func TestTheShellCompletesWhatIsThere(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	complete := func(args ...string) string { return w.ok(append(args, "--generate-shell-completion")...).out }
	require.Contains(t, complete("pin"), "1.1.1:snapshot")
	require.Contains(t, complete("pin"), "newest:")
	require.Contains(t, complete("lane", "switch"), "old:parked")
	require.Contains(t, complete("lane", "new", "x", "--like"), "main:live")
	require.Contains(t, complete("-g"), "quay:")
	require.Contains(t, complete("-l"), "old:parked")
	require.Contains(t, complete("lane"), "switch:")
	require.Contains(t, complete("pin", "--"), "--dry-run")
	require.NotContains(t, complete("status"), "1.1.1")
	require.NotContains(t, complete("pin"), "here:", "it refuses that")
	require.Contains(t, complete("diff"), "here:")
	require.Contains(t, complete("carry"), "lane/old:parked")
	require.Contains(t, complete("lane", "new", "x", "--from"), "lane/old:parked")
	require.Contains(t, complete("-l", "old", "undo"), ":The pin to 1.1.1")
	require.Contains(t, complete("block", "add"), "staging-folder:")
	require.Contains(t, complete("let-update", "--then"), "back")
	require.Contains(t, complete("--color"), "never")
	require.Contains(t, complete("carry", "lane/old", "--conflict"), "newer")
	w.ok("feed", "add", w.feed)
	require.Contains(t, complete("feed", "remove"), "quay-archive:")
	require.Contains(t, complete("builds", "--channel"), "public:quay-archive")
	require.Contains(t, complete("builds", "--channel"), "snapshot:")
	for _, shell := range []string{"bash", "zsh", "fish", "pwsh"} {
		require.Contains(t, w.ok("completion", shell).out, "generate-shell-completion")
	}
	w.fails(2, `there is no script for "cmd"`, "completion", "cmd")
	require.Contains(t, w.ok("completion", "pwsh").out, "Register-ArgumentCompleter -Native -CommandName morvant")
}

// TestCompletionInARealShell asks bash for what it would suggest, with the script as a
// player loads it.
func TestCompletionInARealShell(t *testing.T) {
	t.Parallel()
	bash, err := exec.LookPath("bash")
	if err != nil {
		t.Skip("there is no bash")
	}
	w := newLanes(t)
	script := filepath.Join(w.dir, "completion.bash")
	require.NoError(t, os.WriteFile(script, []byte(w.ok("completion", "bash").out), 0o644))
	ask := `source "$1"; shift; COMP_WORDS=("$@"); COMP_CWORD=$(($#-1)); COMP_TYPE=${LISTED:-9}; _morvant_complete; printf '%s\n' "${COMPREPLY[@]}"`
	suggest := func(words ...string) []string {
		return strings.Fields(w.shell(bash, append([]string{"--norc", "-c", ask, "bash", script, "morvant"}, words...)...))
	}
	require.Equal(t, []string{"old"}, suggest("lane", "switch", "o"))
	require.Equal(t, []string{"1.1.1"}, suggest("pin", "1.1"))
	require.ElementsMatch(t, []string{"lane", "launch"}, suggest("la"))
	require.Contains(t, suggest("pin", "--dry"), "--dry-run")
	require.Contains(t, suggest("-g", "quay", "pin", ""), "1.1.1")
	require.Equal(t, []string{"old"}, suggest("-l", "o"))

	// Nothing that is half typed, and nothing that is suggested, is carried out.
	w.ok("game", "set", "--title", "$(touch pwned) `touch pwned`")
	for _, words := range [][]string{{"pin", "$(touch pwned)", ""}, {"pin", "`touch pwned`", "1"}, {"; touch pwned;", ""}, {"-g", ""}, {"-g", "$(touch pwned)"}, {"-l", `"$(touch pwned)"`, "pin", ""}} {
		suggest(words...)
		require.NoFileExists(t, w.path("pwned"), words)
	}
	listed := w.shell(bash, "--norc", "-c", "LISTED=63; "+ask, "bash", script, "morvant", "pin", "")
	require.Contains(t, listed, "newest  the newest build")
	require.NoFileExists(t, w.path("pwned"))
}

// TestCompletionInFish asks fish, and TestCompletionInZsh presses the tabulator key in a
// terminal of zsh.
func TestCompletionInFish(t *testing.T) {
	t.Parallel()
	fish, err := exec.LookPath("fish")
	if err != nil {
		t.Skip("there is no fish")
	}
	w := newLanes(t)
	script := filepath.Join(w.dir, "morvant.fish")
	require.NoError(t, os.WriteFile(script, []byte(w.ok("completion", "fish").out), 0o644))
	suggest := func(line string) string {
		return w.shell(fish, "--no-config", "-c", `source $argv[1]; complete -C $argv[2]`, script, line)
	}
	require.Equal(t, "old\tparked\n", suggest("morvant lane switch o"))
	require.Contains(t, suggest("morvant pin 1.1"), "1.1.1\t")
	require.Equal(t, "old\tparked\n", suggest("morvant -l o"))
	require.Contains(t, suggest("morvant pin --dry"), "--dry-run\t")
	suggest("morvant pin (touch pwned) ")
	require.NoFileExists(t, w.path("pwned"))
}

func TestCompletionInZsh(t *testing.T) {
	t.Parallel()
	zsh, err := exec.LookPath("zsh")
	if err != nil {
		t.Skip("there is no zsh")
	}
	w := newLanes(t)
	script := filepath.Join(w.dir, "_morvant")
	require.NoError(t, os.WriteFile(script, []byte(w.ok("completion", "zsh").out), 0o644))
	const press = `zmodload zsh/zpty
zpty terminal zsh -f -i
zpty -w terminal "autoload -Uz compinit; compinit -u -D; source ${(q)1}; PS1='<re''ady>'"
zpty -r terminal out '*<ready>*'
zpty -w -n terminal $'morvant -l o\t status; echo DO""NE\n'
zpty -r terminal out '*DONE*'
print -r -- $out`
	require.Contains(t, w.shell(zsh, "-f", "-c", press, "zsh", script), "is held at 1.1.1", "the lane's name was completed")
}

// shell runs a shell that finds the program as morvant.
func (w *launched) shell(name string, args ...string) string {
	w.t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env = w.live, append(w.command().Env, "PATH="+filepath.Dir(program)+string(os.PathListSeparator)+os.Getenv("PATH"))
	out, err := cmd.Output()
	require.NoError(w.t, err)
	return string(out)
}
