package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/cli/app"
	"morvant/internal/feed"
	"morvant/internal/lane"
	"morvant/internal/problem"
	"morvant/internal/state"
	"morvant/internal/store"
	"morvant/internal/upkeep"
	"morvant/internal/volume"
)

// plain are the errors whose own words say what to do, or that nobody sees as they are.
var plain = []string{
	"block.ErrNotBack", "block.ErrPreset", "block.ErrRule", "catalogue.ErrFormat", "catalogue.ErrName", "compose.ErrComponent",
	"database.ErrNotWritten", "digest.ErrCollision", "digest.ErrForeign", "digest.ErrFormat", "edit.ErrTooMuch", "exchange.ErrFormat", "feed.ErrAddress", "feed.ErrExists",
	"feed.ErrHostile", "feed.ErrMissing", "game.ErrFolder", "game.ErrNotMine", "keyed.ErrFormat",
	"keyed.ErrMissing", "keyed.ErrPath", "keyed.ErrTwice", "keyed.ErrValue", "lane.ErrOtherDisk",
	"lane.ErrOtherOwner", "lanes.ErrShare", "layers.ErrEdit", "layers.ErrOverlay", "manifest.ErrFormat", "manifest.ErrPath", "oplog.ErrKilled", "pack.ErrFormat", "pinfile.ErrFormat",
	"pinfile.ErrRuns", "plan.ErrFormat", "propose.ErrNoArrival", "propose.ErrNotKnown", "propose.ErrOtherContent", "publish.ErrKeyFile", "publish.ErrTaken",
	"ref.ErrForm", "reflink.ErrUnsupported", "report.ErrPicture", "rules.ErrPattern", "state.ErrCompanion", "state.ErrExists",
	"state.ErrName", "state.ErrUnknown", "version.ErrNone", "volume.ErrNotRegular", "volume.ErrTooLarge", "volume.ErrUnsupported",
}

// TestEveryErrorHasAdvice: what is exported to be tested for either says what to do, or
// is known to speak for itself.
func TestEveryErrorHasAdvice(t *testing.T) {
	declared := regexp.MustCompile(`(?m)^(?:var |\t)(Err[A-Z]\w*)\s*= (errors\.New|problem\.New|[\w.]+)`)
	source, err := os.ReadFile("errors.go")
	require.NoError(t, err)
	seen := 0
	var without []string
	require.NoError(t, filepath.WalkDir("..", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") || strings.Contains(p, "standin") {
			return err
		}
		b, err := os.ReadFile(p)
		require.NoError(t, err)
		for _, m := range declared.FindAllStringSubmatch(string(b), -1) {
			seen++
			name := filepath.Base(filepath.Dir(p)) + "." + m[1]
			if m[2] != "problem.New" && !strings.Contains(string(source), name) {
				without = append(without, name)
			}
		}
		return nil
	}))
	require.Greater(t, seen, 90)
	slices.Sort(without)
	require.Equal(t, plain, without)
}

func TestAdviceIsAboutTheWorstOfIt(t *testing.T) {
	for _, c := range []struct {
		err  error
		want string
	}{
		{nil, ""},
		{errors.New("x"), ""},
		{fmt.Errorf("a: %w", store.ErrBusy), problem.TryAgain},
		{lane.ErrRunning, "Close the game and run the command again"},
		{fmt.Errorf("x: %w: %w", lane.ErrUnfinished, lane.ErrGone), ""},
		{lane.ErrStranger, ""},
		{errors.Join(upkeep.ErrStateLost, volume.ErrSpace), "Nothing was dropped; run morvant store check --recover-builds first, which lists again every snapshot that the store describes"},
		{&state.UnknownError{Kind: "build", Name: "x"}, "morvant builds lists them"},
		{&state.UnknownError{Kind: "lane", Name: "x"}, ""},
		{&app.WhichGame{Names: []string{"a", "b"}}, "Say which one with -g: a, b"},
		{fmt.Errorf("pack x: %w", problem.ErrNewer), "Use that newer version here; this one has changed nothing"},
		{fmt.Errorf("x: %w", volume.ErrSpace), space},
		{fmt.Errorf("x: %w", feed.ErrSilent), "What has arrived is kept; run the command again to continue"},
		{fmt.Errorf("x: %w", fs.ErrPermission), "Give yourself the right to read and write it, then run the command again"},
	} {
		require.Equal(t, c.want, advice(c.err), "%v", c.err)
	}
}
