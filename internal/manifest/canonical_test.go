package manifest

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhatIsReadFastIsReadTheSame: either as the library reads it, or not at all.
func TestWhatIsReadFastIsReadTheSame(t *testing.T) {
	for text, fast := range map[string]bool{
		`[]`: true,
		`[{"mode":"644","mtime":"1.000000002","path":"a"}]`:                                                 true,
		`[{"mode":"644","mtime":"1.000000002","path":"a"},{"mode":"755","mtime":"","path":"data/ö b.pak"}]`: true,
		`[{"mode":"644","mtime":"","path":"a\"b"}]`:                                                         false,
		`[{"mode":"644","mtime":"","path":"a\\"}]`:                                                          false,
		`[{"mode":"6\u00344","mtime":"","path":"a"}]`:                                                       false,
		`[ {"mode":"644","mtime":"","path":"a"}]`:                                                           false,
		`[{"mode":"644","mtime":"","path":"a"} ]`:                                                           false,
		`[{"path":"a","mode":"644","mtime":""}]`:                                                            false,
		`[{"mode":"644","mtime":"","path":"a","new":1}]`:                                                    false,
		`[{"mode":"644","mtime":"","path":"a"},null]`:                                                       false,
		`[{"mode":null,"mtime":"","path":"a"}]`:                                                             false,
		`[{}]`:                                                                                              false,
		`null`:                                                                                              false,
	} {
		var want []attributeEntry
		require.NoError(t, json.Unmarshal([]byte(text), &want), text)
		list, ok := canonicalEntries([]byte(text))
		require.Equal(t, fast, ok, text)
		if ok {
			require.Equal(t, want, list, text)
		}
		var either entries
		require.NoError(t, json.Unmarshal([]byte(text), &either), text)
		require.Equal(t, want, []attributeEntry(either), text)
	}
	for _, text := range []string{`[{"mode":"644","mtime":"","path":"a"},]`, `[{"mode":"644","mtime":"","path":"a"}`, `[{"mode":"644"}`, `{`, ``, `[{"mode":"644","mtime":"","path":"a`} {
		_, ok := canonicalEntries([]byte(text))
		require.False(t, ok && json.Valid([]byte(text)), text)
		var either entries
		require.Error(t, json.Unmarshal([]byte(text), &either), text)
	}
}
