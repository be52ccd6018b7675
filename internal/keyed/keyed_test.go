package keyed

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const nested = `"Library"
{
	// what is installed
	"apps"
	{
		"4711"
		{
			"name"		"Cinder Quay"
			"AutoUpdate"		"0"
			"path"		"C:\\Games\\\"Quay\""
		}
		"4712" { "AutoUpdate" 2 }
	}
}
`

const doc = `{
  "apps": [
    {"name": "other", "update": 1},
    {"name": "Cinder \"Quay\"", "update": true}
  ],
  "Updates": "always",
  "limit": {}
}
`

const page = `<?xml version="1.0" encoding="utf-16"?>
<!-- update="no" -->
<launcher>
  <option name="lang" value="en"/>
  <option name="updates" value='at &lt;once&gt;' />
  <mode>auto</mode>
  <empty></empty>
</launcher>
`

const ini = "; the launcher\r\nfirst=1\r\n[Game]\r\nUpdate = \"always\"\r\nname=Quay\r\n\r\n[Other]\r\nUpdate=never\r\n"

const registry = "Windows Registry Editor Version 5.00\r\n\r\n[HKEY_CURRENT_USER\\Software\\Quay]\r\n\"AutoUpdate\"=dword:00000001\r\n\"Path\"=\"C:\\\\Quay\"\r\n\"Blob\"=hex:01,02,\\\r\n  03,04\r\n@=\"it\"\r\n"

func TestAValueIsFoundAndChangedByItsPath(t *testing.T) {
	for _, c := range []struct {
		format         Format
		text, path     string
		is, to, stands string // stands: in the changed text
	}{
		{KeyValue, "# a = 0\na = 1\nb: \"x\"\n", "A", "1", "2", "a = 2\n"},
		{KeyValue, "a = 1\nb: \"x\"", "b", "x", "y z", "b: \"y z\""},
		{KeyValue, "url = http://x\n", "url", "http://x", "", "url = \n"},
		{INI, ini, "game/update", "always", "never", "Update = \"never\"\r\nname"},
		{INI, ini, "Other/Update", "never", "always", "[Other]\r\nUpdate=always\r\n"},
		{INI, ini, "first", "1", "2", "first=2\r\n"},
		{JSON, doc, "updates", "always", "by \"hand\"", `"Updates": "by \"hand\"",`},
		{JSON, doc, "apps/1/name", `Cinder "Quay"`, "Quay", `{"name": "Quay", "update": true}`},
		{JSON, doc, "apps/1/update", "true", "false", `"update": false}`},
		{JSON, doc, "apps/0/update", "1", "-2.5e3", `"update": -2.5e3}`},
		{XML, page, "launcher/option[name=updates]/@value", "at <once>", "by 'hand' <&", `value='by &#39;hand&#39; &lt;&amp;' />`},
		{XML, page, "launcher/option[name=lang]/@value", "en", "fr", `value="fr"/>`},
		{XML, page, "launcher/mode", "auto", "off", "<mode>off</mode>"},
		{XML, page, "launcher/empty", "", "x", "<empty>x</empty>"},
		{Nested, nested, "library/apps/4711/autoupdate", "0", `1 "x"`, `"AutoUpdate"		"1 \"x\""`},
		{Nested, nested, "Library/apps/4711/path", `C:\Games\"Quay"`, "/games", `"path"		"/games"`},
		{Nested, nested, "Library/apps/4712/AutoUpdate", "2", "3", `"AutoUpdate" 3 }`},
		{Registry, registry, `hkey_current_user\software\quay/autoupdate`, "dword:00000001", "dword:00000000", "\"AutoUpdate\"=dword:00000000\r\n"},
		{Registry, registry, `HKEY_CURRENT_USER\Software\Quay/Path`, `C:\Quay`, `D:\"x"`, `"Path"="D:\\\"x\""`},
		{Registry, registry, `HKEY_CURRENT_USER\Software\Quay/@`, "it", "that", "@=\"that\"\r\n"},
		{Registry, registry, `HKEY_CURRENT_USER\Software\Quay/Blob`, `hex:01,02,\03,04`, "hex:05", "\"Blob\"=hex:05\r\n"},
	} {
		for _, begin := range []string{"", mark} {
			text := begin + c.text
			path, err := ParsePath(c.path)
			require.NoError(t, err)
			v, err := Find(c.format, text, path)
			require.NoError(t, err, c.path)
			require.Equal(t, c.is, v.Text, c.path)
			e, err := v.To(c.to)
			require.NoError(t, err)
			changed := e.In(text)
			require.Contains(t, changed, c.stands)
			again, err := Find(c.format, changed, path)
			require.NoError(t, err, changed)
			require.Equal(t, c.to, again.Text)
			require.Equal(t, text, Edit{again.Start, again.End, text[v.Start:v.End]}.In(changed), "every other byte is as it was")
		}
	}
}

func TestAKeyThatIsMissingIsAddedAndTakenOut(t *testing.T) {
	for _, c := range []struct {
		format           Format
		text, path, with string
		stands           string
	}{
		{KeyValue, "a = 1\n\n", "b", "2", "a = 1\nb = 2\n\n"},
		{KeyValue, "a: 1", "b", "2", "a: 1\nb: 2"},
		{KeyValue, "", "b", "2", "b=2\n"},
		{INI, ini, "Game/new", "x", "name=Quay\r\nnew=x\r\n\r\n[Other]"},
		{INI, ini, "Third/new", "x", "Update=never\r\n[Third]\r\nnew=x\r\n"},
		{JSON, doc, "apps/1/auto", "false", `"update": true, "auto": false}`},
		{JSON, doc, "limit/kb", "5", `"limit": {"kb": 5}`},
		{JSON, doc, "a/b", "x y", "\"limit\": {},\n  \"a\": {\"b\": \"x y\"}\n}"},
		{JSON, "{}", "a", "x", `{"a": "x"}`},
		{XML, page, "launcher/option[name=lang]/@auto", `"no"`, `value="en" auto="&quot;no&quot;"/>`},
		{XML, page, "launcher/mode/@auto", "no", `<mode auto="no">auto`},
		{Nested, nested, "Library/apps/4711/new", "x", "\"path\"\t\t\"C:\\\\Games\\\\\\\"Quay\\\"\"\n\t\t\t\"new\"\t\t\"x\"\n\t\t}"},
		{Nested, nested, "Library/apps/4712/new", "x", `{ "AutoUpdate" 2 "new" "x" }`},
		{Nested, nested, "Library/apps/1/new", "x", "\t\t\"1\"\n\t\t{\n\t\t\t\"new\"\t\t\"x\"\n\t\t}\n\t}"},
		{Registry, registry, `HKEY_CURRENT_USER\Software\Quay/New`, "dword:00000000", "@=\"it\"\r\n\"New\"=dword:00000000\r\n"},
		{Registry, registry, `HKEY_CURRENT_USER\Software\Other/New`, "text", "[HKEY_CURRENT_USER\\Software\\Other]\r\n\"New\"=\"text\"\r\n"},
	} {
		path, err := ParsePath(c.path)
		require.NoError(t, err)
		_, err = Find(c.format, c.text, path)
		require.ErrorIs(t, err, ErrMissing, c.path)
		e, err := Add(c.format, c.text, path, c.with)
		require.NoError(t, err, c.path)
		added := e.In(c.text)
		require.Contains(t, added, c.stands)
		v, err := Find(c.format, added, path)
		require.NoError(t, err, added)
		require.Equal(t, c.with, v.Text)
		require.Equal(t, c.text, v.Out(added, e.Text).In(added), "exactly what was added goes")
		// Where it does not stand just so any more, the entry goes.
		out := v.Out(added, "something else").In(added)
		_, err = Find(c.format, out, path)
		require.ErrorIs(t, err, ErrMissing)
	}
}

// TestAValueThatGoesOnOverLinesIsTakenOutWhole: nothing of it stays behind as a line of its own.
func TestAValueThatGoesOnOverLinesIsTakenOutWhole(t *testing.T) {
	const blob = "\"Blob\"=hex:01,02,\\\r\n  03,04\r\n"
	path, err := ParsePath(`HKEY_CURRENT_USER\Software\Quay/Blob`)
	require.NoError(t, err)
	v, err := Find(Registry, registry, path)
	require.NoError(t, err)
	out := v.Out(registry, "").In(registry)
	require.Equal(t, strings.Replace(registry, blob, "", 1), out)
	path, err = ParsePath("apps/1")
	require.NoError(t, err)
	v, err = Find(JSON, "{\n  \"apps\": [1,\n    \"two\",\n    3]\n}", path)
	require.NoError(t, err)
	require.Equal(t, "two", v.Text)
}

func TestWhatCannotBeToldApartIsSaid(t *testing.T) {
	_, err := Find(INI, "[a]\nx=1\n[b]\nx=2\n[A]\nX=3\n", []string{"a", "x"})
	require.ErrorIs(t, err, ErrTwice)
	require.ErrorContains(t, err, `"1" in line 2, "3" in line 6`)
	_, err = Find(JSON, `{"a": 1, "A": 2}`, []string{"a"})
	require.ErrorIs(t, err, ErrTwice)
	_, err = Find(XML, "<a><b c='1'/><b c='2'/></a>", []string{"a", "b", "@c"})
	require.ErrorIs(t, err, ErrTwice)
	for format, bad := range map[Format]string{
		JSON: `{"a": `, XML: "<a><b></a", Nested: `"a" { "b"`, "magic": "",
	} {
		_, err := Find(format, bad, []string{"a"})
		require.ErrorIs(t, err, ErrFormat, format)
	}
	for _, bad := range []string{`"a" }`, `{ }`, `"a" { "b" }`, `"open`, `"a" { `} {
		_, err := Find(Nested, bad, []string{"a"})
		require.ErrorIs(t, err, ErrFormat, bad)
	}
	for _, bad := range []string{"", "/a", "a//b", "a/", "a\nb"} {
		_, err := ParsePath(bad)
		require.ErrorIs(t, err, ErrPath, bad)
	}
	path, err := ParsePath(`a\/b/c\d`)
	require.NoError(t, err)
	require.Equal(t, []string{"a/b", `c\d`}, path)

	value := func(f Format, text, path, to string) error {
		v, err := Find(f, text, strings.Split(path, "/"))
		require.NoError(t, err)
		_, err = v.To(to)
		return err
	}
	require.ErrorIs(t, value(JSON, `{"a": 1}`, "a", "text"), ErrValue)
	require.ErrorIs(t, value(INI, "a=1\n", "a", "1\n2"), ErrValue)
	require.ErrorIs(t, value(INI, "a=1\n", "a", " 1"), ErrValue)
	require.ErrorIs(t, value(Nested, "a b", "a", "c d"), ErrValue)
	require.ErrorIs(t, value(XML, "<a>1</a>", "a", "\x00"), ErrValue)
	for f, path := range map[Format]string{KeyValue: "a/b", INI: "a/b/c", XML: "b/@c", Registry: "a"} {
		_, err := Add(f, "<a/>", strings.Split(path, "/"), "x")
		require.Error(t, err, f)
	}
	_, err = Add(XML, "<a/>", []string{"a", "b"}, "x")
	require.ErrorIs(t, err, ErrMissing)
}

// FuzzChange: whatever the text, a change is read again as it was meant, and taken back to the byte.
func FuzzChange(f *testing.F) {
	for i, text := range []string{"a = 1\n", ini, doc, page, nested, registry} {
		f.Add(i, text, "Library/apps/4711/AutoUpdate", "1")
		f.Add(i, text, "a", "x")
		f.Add(i, text, "launcher/mode/@auto", `"x" <`)
	}
	f.Fuzz(func(t *testing.T, which int, text, name, to string) {
		format := Formats()[uint(which)%uint(len(Formats()))]
		path, err := ParsePath(name)
		if err != nil {
			return
		}
		v, err := Find(format, text, path)
		if err != nil {
			e, err := Add(format, text, path, to)
			if err != nil {
				return
			}
			added := e.In(text)
			if v, err := Find(format, added, path); err == nil && v.Text == to {
				require.Equal(t, text, v.Out(added, e.Text).In(added))
			}
			return
		}
		e, err := v.To(to)
		if err != nil {
			return
		}
		changed := e.In(text)
		if again, err := Find(format, changed, path); err == nil && again.Text == to && again.Start == v.Start {
			require.Equal(t, text, Edit{again.Start, again.End, text[v.Start:v.End]}.In(changed))
		}
	})
}
