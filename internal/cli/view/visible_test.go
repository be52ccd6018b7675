package view

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatOthersWriteCannotActOnTheTerminal(t *testing.T) {
	for text, want := range map[string]string{
		"Cinder Quay — ünï 名前 🏗\n":        "Cinder Quay — ünï 名前 🏗\n",
		"a\tb\nc":                         "a\tb\nc",
		Strong("held") + " at " + "1":     Strong("held") + " at 1",
		Paint(Good, "1.1.1") + Faint("x"): Paint(Good, "1.1.1") + Faint("x"),
		"\x1b]0;title\x07":                `\x1b]0;title\x07`,
		"gone\x1b[2K\x1b[1Ahere":          `gone\x1b[2K\x1b[1Ahere`,
		"\x1b[8mhidden":                   `\x1b[8mhidden`,
		"over\rwritten":                   `over\x0dwritten`,
		"photo\u202egpj.exe":              `photo\u202egpj.exe`,
		"zero\u200bwidth":                 `zero\u200bwidth`,
		"line\u2028separator":             `line\u2028separator`,
		"c1 \u009b31m":                    `c1 \x9b31m`,
		"bad \xff byte":                   `bad \xff byte`,
		"del\x7f":                         `del\x7f`,
	} {
		var out bytes.Buffer
		n, err := Visible{&out}.Write([]byte(text))
		require.NoError(t, err)
		require.Equal(t, len(text), n)
		require.Equal(t, want, out.String(), "%q", text)
	}
	require.Equal(t, strings.Repeat("x", 1000), string(MadeVisible([]byte(strings.Repeat("x", 1000)))))
}
