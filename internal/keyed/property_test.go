package keyed

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// writer makes up documents: the same for the same seed.
type writer struct {
	*rand.Rand
	b    strings.Builder
	keys map[string]string // what each path says
}

func (w *writer) one(of ...string) string { return of[w.IntN(len(of))] }
func (w *writer) put(s ...string) {
	for _, t := range s {
		w.b.WriteString(t)
	}
}

func (w *writer) json(depth int, path string) {
	blank := func() string { return w.one("", " ", "\n", "\t ", "  ") }
	if depth == 0 || w.IntN(3) == 0 {
		text := w.one("1", "true", "null", `"x"`, `"a \"b\" , :"`, `"{"`)
		is := map[string]string{`"x"`: "x", `"a \"b\" , :"`: `a "b" , :`, `"{"`: "{"}[text]
		if is == "" {
			is = text
		}
		w.keys[path] = is
		w.put(text)
		return
	}
	w.put("{", blank())
	n := w.IntN(4)
	for i := range n {
		key := fmt.Sprintf("k%d", i)
		w.put(`"`, key, `"`, blank(), ":", blank())
		w.json(depth-1, path+"/"+key)
		if i < n-1 {
			w.put(blank(), ",", blank())
		}
	}
	w.put(blank(), "}")
}

func (w *writer) lines(sections bool) {
	nl := w.one("\n", "\r\n")
	section := ""
	for i := range 12 {
		switch w.IntN(5) {
		case 0:
			w.put(w.one("", "; k9=1", "# remark", "  "), nl)
		case 1:
			if sections {
				section = fmt.Sprintf("s%d/", i)
				w.put(w.one("", " "), "[", strings.TrimSuffix(section, "/"), "]", w.one("", " ; remark", "  # [other]", "\t"), nl)
			}
		default:
			key, value := fmt.Sprintf("k%d", i), w.one("1", "", "a b", "http://x?a=b")
			w.keys["/"+section+key] = value
			w.put(w.one("", "  "), key, w.one("=", " = ", ": ", " :"), value, nl)
		}
	}
}

func (w *writer) xml(depth int, path string) {
	note := func() string { return w.one("", "", "<!-- k1 -->", "\n  ", "<?x y?>") }
	name := path[strings.LastIndexByte(path, '/')+1:]
	w.put("<", name)
	if w.IntN(2) == 0 {
		quote, value := w.one(`"`, "'"), w.one("1", "a &amp; b", "")
		w.put(" at=", quote, value, quote)
		w.keys[path+"/@at"] = strings.ReplaceAll(value, "&amp;", "&")
	}
	w.put(">")
	if depth > 0 {
		for i := range w.IntN(3) + 1 {
			w.put(note())
			w.xml(depth-1, fmt.Sprintf("%s/e%d", path, i))
		}
		w.put(note())
	} else {
		before, after := w.one("", "<!-- x -->", "<!-- x -->\n"), w.one("", "<!-- y -->", "\n<!-- <a> -->")
		text := w.one("auto", "a &lt; b", "<![CDATA[a < b & c]]>", "<![CDATA[]]>")
		is := strings.NewReplacer("<![CDATA[", "", "]]>", "", "&lt;", "<").Replace(text)
		w.put(before, text, after)
		w.keys[path] = is
	}
	w.put("</", name, ">")
}

func (w *writer) nested(depth int, path string) {
	for i := range w.IntN(3) + 1 {
		key := fmt.Sprintf("k%d", i)
		w.put(w.one("", "\t", "// k9 1\n"), `"`, key, `"`, w.one(" ", "\t\t", "\n"))
		if depth > 0 && w.IntN(2) == 0 {
			w.put("{", w.one("\n", " "))
			w.nested(depth-1, path+"/"+key)
			w.put("}", w.one("\n", " "))
			continue
		}
		value := w.one(`"0"`, "2", `"C:\\Quay"`, `""`)
		w.keys[path+"/"+key] = strings.ReplaceAll(strings.Trim(value, `"`), `\\`, `\`)
		w.put(value, w.one("\n", " ", "\r\n"))
	}
}

func (w *writer) registry() {
	w.put("Windows Registry Editor Version 5.00\r\n\r\n")
	for i := range 3 {
		w.put("[A\\", fmt.Sprint(i), "]\r\n")
		for j := range w.IntN(4) {
			value, is := w.one(`"x\\y"`, "dword:00000001", "hex:01,\\\r\n  02"), ""
			switch value {
			case `"x\\y"`:
				is = `x\y`
			case "dword:00000001":
				is = value
			default:
				is = `hex:01,\02`
			}
			w.keys[fmt.Sprintf("/A\\%d/v%d", i, j)] = is
			w.put(fmt.Sprintf(`"v%d"=`, j), value, "\r\n")
		}
		w.put(w.one("", "\r\n"))
	}
}

// TestSetReadAndTakenBackEveryByteStays: any document, any key.
func TestSetReadAndTakenBackEveryByteStays(t *testing.T) {
	for _, f := range Formats() {
		checked := 0
		for seed := range uint64(400) {
			w := &writer{Rand: rand.New(rand.NewPCG(seed, 1)), keys: make(map[string]string)}
			w.put(w.one("", mark))
			switch f {
			case JSON:
				w.put("{", w.one("", "\n "), `"top"`, w.one(":", " : "))
				w.json(3, "/top")
				w.put(w.one("", " ", "\n"), "}")
			case XML:
				w.xml(2, "/root")
			case Nested:
				w.nested(2, "")
			case Registry:
				w.registry()
			default:
				w.lines(f == INI)
			}
			text := w.b.String()
			where := fmt.Sprintf("%s, seed %d:\n%s", f, seed, text)
			for p, is := range w.keys {
				path, err := ParsePath(p[1:])
				require.NoError(t, err)
				v, err := Find(f, text, path)
				require.NoError(t, err, "%s %s", p, where)
				require.Equal(t, is, v.Text, "%s %s", p, where)
				to := "7"
				if f == JSON && (is == "true" || is == "false") && text[v.Start] != '"' {
					_, err := v.To(to)
					require.ErrorIs(t, err, ErrValue, "of another type: %s %s", p, where)
					to = "false"
				}
				e, err := v.To(to)
				require.NoError(t, err, "%s %s", p, where)
				raw, changed := text[v.Start:v.End], e.In(text)
				again, err := Find(f, changed, path)
				require.NoError(t, err, "%s %s\n%s", p, where, changed)
				require.Equal(t, to, again.Text, "%s %s\n%s", p, where, changed)
				require.Equal(t, text, Edit{again.Start, again.End, raw}.In(changed), "%s %s", p, where)
				checked++

				// A key that is missing, beside it.
				name := "fresh"
				if f == XML {
					if name = "@fresh"; strings.HasPrefix(path[len(path)-1], "@") {
						path = path[:len(path)-1]
					}
				} else {
					path = path[:len(path)-1]
				}
				beside := append(append([]string{}, path...), name)
				_, err = Find(f, text, beside)
				require.ErrorIs(t, err, ErrMissing, "%s %s", p, where)
				e, err = Add(f, text, beside, "7")
				require.NoError(t, err, "%s %s", p, where)
				changed = e.In(text)
				again, err = Find(f, changed, beside)
				require.NoError(t, err, "%s %s\n%s", p, where, changed)
				require.Equal(t, "7", again.Text)
				require.Equal(t, text, again.Out(changed, e.Text).In(changed), "%s %s\n%s", p, where, changed)
			}
		}
		require.Greater(t, checked, 300, f)
	}
}

// TestTextInSeveralPiecesIsNobodysValue: which of them is meant nobody knows.
func TestTextInSeveralPiecesIsNobodysValue(t *testing.T) {
	_, err := Find(XML, "<a><b>one<!-- or -->two</b></a>", []string{"a", "b"})
	require.ErrorIs(t, err, ErrMissing)
	v, err := Find(XML, "<a><b><!-- none --></b></a>", []string{"a", "b"})
	require.NoError(t, err)
	require.Empty(t, v.Text)
}
