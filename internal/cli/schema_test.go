package cli_test

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
)

// schemas are those of docs/schemas by the name of the document, made strict: a document
// with a property that its schema does not name is refused here, though readers pass it over.
var schemas = sync.OnceValues(func() (map[string]*jsonschema.Schema, error) {
	files, err := filepath.Glob("../../docs/schemas/*.json")
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	c.AssertFormat()
	list := make(map[string]*jsonschema.Schema)
	for _, file := range files {
		f, err := os.Open(file)
		if err != nil {
			return nil, err
		}
		doc, err := jsonschema.UnmarshalJSON(f)
		f.Close()
		if err != nil {
			return nil, err
		}
		closed(doc)
		if err := c.AddResource(file, doc); err != nil {
			return nil, err
		}
		if list[doc.(map[string]any)["title"].(string)], err = c.Compile(file); err != nil {
			return nil, err
		}
	}
	return list, nil
})

// closed lets the objects of a schema have no other properties.
func closed(schema any) {
	switch s := schema.(type) {
	case map[string]any:
		if _, ok := s["properties"].(map[string]any); ok {
			s["additionalProperties"] = false
		}
		for _, v := range s {
			closed(v)
		}
	case []any:
		for _, v := range s {
			closed(v)
		}
	}
}

// checkDocuments holds what the program has written with --json against the schemas.
func checkDocuments(t *testing.T, args []string, out string) {
	t.Helper()
	known, err := schemas()
	require.NoError(t, err)
	for d := json.NewDecoder(strings.NewReader(out)); ; {
		var raw json.RawMessage
		if err := d.Decode(&raw); errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return // a run that was killed may leave half of one
		} else if err != nil {
			return // not a document: the output of a game that was started
		}
		doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(raw)))
		require.NoError(t, err)
		object, ok := doc.(map[string]any)
		require.True(t, ok, "morvant %v writes no object: %s", args, raw)
		name, ok := object["schema"].(string)
		require.True(t, ok, "morvant %v does not name the schema: %s", args, raw)
		require.NotNil(t, known[name], "there is no schema of %s (morvant %v)", name, args)
		require.NoError(t, known[name].Validate(doc), "morvant %v\n%s", args, raw)
	}
}

// TestEveryDocumentHasASchema: what the source says is a document is described, and nothing else is.
func TestEveryDocumentHasASchema(t *testing.T) {
	known, err := schemas()
	require.NoError(t, err)
	named := regexp.MustCompile(`"(morvant-[a-z-]+/\d+)"`)
	written := make(map[string]bool)
	require.NoError(t, filepath.WalkDir(".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") {
			return err
		}
		b, err := os.ReadFile(p)
		require.NoError(t, err)
		for _, m := range named.FindAllStringSubmatch(string(b), -1) {
			written[m[1]] = true
		}
		return nil
	}))
	require.Equal(t, slices.Sorted(maps.Keys(written)), slices.Sorted(maps.Keys(known)))
}

// TestASchemaRefusesWhatIsNotIts: the check above can fail.
func TestASchemaRefusesWhatIsNotIts(t *testing.T) {
	known, err := schemas()
	require.NoError(t, err)
	for _, c := range []struct{ doc, want string }{
		{`{"schema":"morvant-done/1","done":"x","more":1}`, "additional properties"},
		{`{"schema":"morvant-output/1","change":1}`, "missing propert"},
	} {
		doc, err := jsonschema.UnmarshalJSON(strings.NewReader(c.doc))
		require.NoError(t, err)
		require.ErrorContains(t, known[doc.(map[string]any)["schema"].(string)].Validate(doc), c.want, c.doc)
	}
}
