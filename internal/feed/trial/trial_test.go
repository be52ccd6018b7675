package trial

import (
	"os"
	"path/filepath"
	"strings"
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
	build := func(id, date, components string) string {
		return `{"jsonrpc":"2.0","id":1,"result":{"builds":[{"id":` + id + `,"date":` + date + `,"components":[` + components + `]}]}}`
	}
	one := `{"name":"base","manifest":"blake3:` + strings.Repeat("ab", 32) + `","files":1,"bytes":1}`
	w.watch(false, []byte(build(`"7"`, `"2031-08-05T10:00:00Z"`, ``)))
	w.watch(true, []byte(`{"jsonrpc":"2.0","id":1,"method":"builds","params":{"channel":"public"}}`))
	w.watch(false, []byte(build(`"7"`, `"5 August"`, one)))
	w.watch(true, []byte(`{"jsonrpc":"2.0","id":1,"method":"builds","params":{"channel":"public"}}`))
	w.watch(false, []byte(build(`7`, `"2031-08-05T10:00:00Z"`, one)))
	w.watch(false, []byte(`{"jsonrpc":"2.0","id":2,"method":"launch","params":{}}`))
	w.watch(false, []byte(`{"id":3,"method":"progress","params":{}}`))
	require.Equal(t, []string{
		"the answer to builds, builds/each/components: minItems: array length 0 is less than 1",
		`the answer to builds, builds/each/date: pattern: "5 August" does not match regular expression "^\\d{4}-\\d\\d-\\d\\dT\\d\\d:\\d\\d:\\d\\d(\\.\\d+)?(Z|[+-]\\d\\d:\\d\\d)$"`,
		`the answer to builds, builds/each/id: type: 7 has type "integer", want "string"`,
		`it asks "launch", which Morvant does not know`,
		`a message has no "jsonrpc": "2.0"`,
		`progress (asked), as a whole: required: missing properties: ["text"]`,
	}, w.wrong)
}
