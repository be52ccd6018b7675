package manifest

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestLinksThatLeadOutAreKeptBesideTheAttributes(t *testing.T) {
	a := NewAttributes()
	require.Equal(t, `{"dirs":[],"files":[],"format":"morvant-attributes/1"}`, string(a.Encode()), "as earlier versions wrote it")
	a.Links["b"], a.Links["a/c"] = "../../x", "/games/mods \"q\""
	text := `{"dirs":[],"files":[],"format":"morvant-attributes/1","links":[{"path":"a/c","target":"/games/mods \"q\""},{"path":"b","target":"../../x"}]}`
	require.Equal(t, text, string(a.Encode()))
	got, err := DecodeAttributes([]byte(text))
	require.NoError(t, err)
	require.Equal(t, a.Links, got.Links)
	for _, bad := range []string{
		`{"path":"../a","target":"/x"}`, `{"path":"a","target":""}`, `{"path":"a","target":"x\ny"}`, `{"path":"a","target":"x"},{"path":"a","target":"y"}`, `{"path":".morvant/a","target":"x"}`,
	} {
		_, err := DecodeAttributes(fmt.Appendf(nil, `{"dirs":[],"files":[],"format":"morvant-attributes/1","links":[%s]}`, bad))
		require.Error(t, err, bad)
	}
}
