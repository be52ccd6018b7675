package manifest

import (
	"bytes"
	"encoding/json"
)

// entries is a list of attributes. What Encode wrote is decoded without looking up names: of a large game that is most of what
// reading its times and modes takes. Anything else, and each path with an escape, is left to the library.
type entries []attributeEntry

func (list *entries) UnmarshalJSON(b []byte) error {
	if fast, ok := canonicalEntries(b); ok {
		*list = fast
		return nil
	}
	return json.Unmarshal(b, (*[]attributeEntry)(list))
}

func canonicalEntries(b []byte) (list []attributeEntry, ok bool) {
	b, ok = bytes.CutPrefix(b, []byte("["))
	if !ok {
		return nil, false
	}
	list = make([]attributeEntry, 0, bytes.Count(b, []byte("},"))+1)
	for len(b) > 0 && b[0] == '{' {
		var e attributeEntry
		for _, field := range []struct {
			name string
			into *string
		}{{`{"mode":"`, &e.Mode}, {`,"mtime":"`, &e.MTime}, {`,"path":"`, &e.Path}} {
			if b, ok = bytes.CutPrefix(b, []byte(field.name)); !ok {
				return nil, false
			}
			end := bytes.IndexByte(b, '"')
			if end < 0 || bytes.IndexByte(b[:end], '\\') >= 0 {
				return nil, false
			}
			*field.into, b = string(b[:end]), b[end+1:]
		}
		if b, ok = bytes.CutPrefix(b, []byte("}")); !ok {
			return nil, false
		}
		list = append(list, e)
		if b, ok = bytes.CutPrefix(b, []byte(",")); !ok {
			break
		}
	}
	return list, string(b) == "]"
}
