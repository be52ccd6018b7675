package view

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAWordInAdviceStaysAWord asks a shell what it makes of words that others have written.
func TestAWordInAdviceStaysAWord(t *testing.T) {
	words := []string{
		"https://quay.example/feed", "/games/Cinder Quay", "it's", "$(touch x)", "`touch x`", "a;b", "a&b", "a|b", "a>b", "a\nb", "*", "~", "--yes", "", `"`, `\`, "$HOME", "!x", "ö",
	}
	for _, word := range words {
		require.NotContains(t, []string{"", "--yes"}, quotedFor("linux", word))
	}
	sh, err := exec.LookPath("sh")
	if err != nil {
		t.Skip("there is no sh here")
	}
	for _, word := range words {
		out, err := exec.Command(sh, "-c", "printf %s "+quotedFor("linux", word)).Output()
		require.NoError(t, err, word)
		require.Equal(t, word, string(out))
	}
	require.Equal(t, "/games/quay", quotedFor("linux", "/games/quay"))
	require.Equal(t, `C:\Games\Quay`, quotedFor("windows", `C:\Games\Quay`))
	for word, want := range map[string]string{`C:\Cinder Quay`: `"C:\Cinder Quay"`, "a&calc": `"a&calc"`, `a" & calc`: `"a & calc"`, "%PATH%": `"PATH"`, "$(calc)": `"(calc)"`} {
		require.Equal(t, want, quotedFor("windows", word))
	}
}
