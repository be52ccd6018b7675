package cli_test

import (
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestAFileThatKeepsGrowingStopsNothing: a log that is being written, and a file that may not be read, fail no
// status, and no snapshot or pin that can do without them; the line that mends it is offered.
func TestAFileThatKeepsGrowingStopsNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("bin/quay.exe", "program")
	w.write("data/a.pak", "a")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.ok("pin", "1", "--yes")
	w.write("notes.txt", "mine")
	w.ok("snapshot", "2")
	w.write("log.txt", strings.Repeat("begins\n", 3_000_000)) // so that it grows while it is read
	var end sync.WaitGroup
	stop := make(chan struct{})
	end.Go(func() {
		f, err := os.OpenFile(w.path("log.txt"), os.O_APPEND|os.O_WRONLY, 0)
		if err != nil {
			return
		}
		defer f.Close()
		for line := 0; ; line++ {
			select {
			case <-stop:
				return
			default:
				fmt.Fprintln(f, line)
			}
		}
	})
	for _, args := range [][]string{{"status"}, {"verify"}, {"pin", "2", "--yes"}, {"pin", "1", "--yes"}, {"snapshot", "3"}, {"undo", "--yes"}} {
		start := time.Now()
		r := w.ok(args...)
		require.Contains(t, r.err, `log.txt is still being written, and is not looked at. If nobody needs it: morvant game set --scratch log.txt`, args)
		require.Less(t, time.Since(start), 30*time.Second)
	}
	require.EqualValues(t, 3, w.json(0, "snapshot", "4")["files"], "without the log")
	w.fails(1, "log.txt: the file keeps changing", "pin", "1", "--clean", "--yes")
	close(stop)
	end.Wait()
	w.ok("snapshot", "with-log")
	w.ok("game", "set", "--scratch", "log.txt")
	require.NotContains(t, w.ok("status").err, "log.txt")
}
