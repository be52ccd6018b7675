package cli

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAQuotationMarkThatWasSwallowedIsFound: what the system makes of a line that was typed on Windows, and what was
// probably meant. Where a text may have quotation marks, it keeps them.
func TestAQuotationMarkThatWasSwallowedIsFound(t *testing.T) {
	for _, c := range []struct {
		args  []string // as they arrive
		meant string   // empty: nothing is wrong
	}{
		{[]string{"add", "quay", ".", "--keep", `Mods" --keep settings.ini`}, `morvant add quay . --keep "Mods" --keep settings.ini`},
		{[]string{"add", "quay", ".", "--saves", `%SAVED_GAMES%\Quay"`}, `morvant add quay . --saves "%SAVED_GAMES%\Quay"`},
		{[]string{"add", "quay", `C:\My Games\Quay" --keep Mods`}, `morvant add quay "C:\My Games\Quay" --keep Mods`},
		{[]string{"game", "set", `--keep=Mods" --scratch logs`}, `morvant game set --keep="Mods" --scratch logs`},
		{[]string{"block", "add", "read-only", `path=C:\Quay Files" more`}, `morvant block add read-only "path=C:\Quay Files" more`},
		{[]string{"--home", `D:\Morvant Home" status`}, `morvant --home "D:\Morvant Home" status`},
		{[]string{"import", `D:\Old Builds" 1.0`, "x"}, `morvant import "D:\Old Builds" 1.0 x`},
		{[]string{"snapshot", "1.0", "--note", `"works"`}, ""},
		{[]string{"builds", "note", "1.0", `say "go"`}, ""},
		{[]string{"saves", "backup", `before "it"`}, ""},
		{[]string{"game", "set", "--after-pin", `"C:\a b\x.exe" "y"`}, ""},
		{[]string{"game", "set", `--through="C:\a b\x.exe"`}, ""},
		{[]string{"pin", "1.0", "--edit", `a.cfg:"x" = (.)=1`}, ""},
		{[]string{"block", "add", "setting", "file=x", `find="auto" "(.)"`, "set=0"}, ""},
		{[]string{"launch", "--", `--say="x"`}, ""},
		{[]string{"launch", "main", `"x"`}, ""},
		{[]string{"status"}, ""},
	} {
		args := append([]string{"morvant"}, c.args...)
		err := misquoted(args)
		if c.meant == "" {
			require.NoError(t, err, c.args)
			continue
		}
		require.ErrorContains(t, err, "probably meant like this: "+c.meant, c.args)
	}
}
