package trial

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheSchemasAreThoseOfTheDocumentation(t *testing.T) {
	b, err := os.ReadFile(filepath.FromSlash("../../../docs/schemas/adapter/morvant-adapter-1.json"))
	require.NoError(t, err)
	require.Equal(t, string(b), string(schemas))
	w, err := newWatcher()
	require.NoError(t, err)
	for _, method := range []string{"initialize", "signIn", "signOut", "unlock", "builds", "manifest", "content", "ask", "secret/get", "secret/set"} {
		require.Contains(t, w.schema, method+"/params")
		require.Contains(t, w.schema, method+"/result")
	}
}

func TestWhatIsWrongIsSaidInWords(t *testing.T) {
	w, err := newWatcher()
	require.NoError(t, err)
	w.watch(true, []byte(`{"jsonrpc":"2.0","id":1,"method":"builds","params":{"channel":"public"}}`))
	w.watch(false, []byte(`{"jsonrpc":"2.0","id":1,"result":{"builds":[{"id":7,"date":"5 August","components":[]}]}}`))
	w.watch(false, []byte(`{"jsonrpc":"2.0","id":2,"method":"launch","params":{}}`))
	w.watch(false, []byte(`{"id":3,"method":"progress","params":{}}`))
	require.Equal(t, []string{
		"the answer to builds, builds/0/components: minItems: got 0, want 1",
		"the answer to builds, builds/0/date: '5 August' does not match pattern '^\\\\d{4}-\\\\d\\\\d-\\\\d\\\\dT\\\\d\\\\d:\\\\d\\\\d:\\\\d\\\\d(\\\\.\\\\d+)?(Z|[+-]\\\\d\\\\d:\\\\d\\\\d)$'",
		"the answer to builds, builds/0/id: got number, want string",
		`it asks "launch", which Morvant does not know`,
		`a message has no "jsonrpc": "2.0"`,
		"progress (asked), as a whole: missing property 'text'",
	}, sorted(w.wrong[:3], w.wrong[3:]))
}

// sorted returns the first list in order, and then the rest: a schema's faults come in no order.
func sorted(first, rest []string) []string {
	return append(slices.Sorted(slices.Values(first)), rest...)
}
