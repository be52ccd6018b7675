package ref

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestHowBuildsAreNamed(t *testing.T) {
	day := time.Date(2031, 8, 5, 0, 0, 0, 0, time.Local)
	for text, want := range map[string]Ref{
		"1.1.1":               {Name: "1.1.1"},
		"preview/1.5":         {Line: "preview", Name: "1.5"},
		"snapshot/1.1.1":      {Line: "snapshot", Name: "1.1.1"},
		"newest":              {Kind: Newest, Name: "newest"},
		"preview/newest":      {Kind: Newest, Line: "preview", Name: "newest"},
		"snapshot/before":     {Kind: Before, Line: "snapshot", Name: "before"},
		"here":                {Kind: Here, Name: "here"},
		"preview/here":        {Line: "preview", Name: "here"},
		"@2031-08-05":         {Kind: Day, Name: "@2031-08-05", Day: day},
		"preview/@2031-08-05": {Kind: Day, Line: "preview", Name: "@2031-08-05", Day: day},
		"=3fa9c1":             {Kind: Digest, Name: "3fa9c1"},
		"public/=3fa9c1aa":    {Kind: Digest, Line: "public", Name: "3fa9c1aa"},
		"lane/old":            {Kind: Lane, Name: "old"},
		"id:8801217":          {Kind: ID, Name: "8801217"},
		"id:a/b":              {Kind: ID, Name: "a/b"},
		"public/id:8801217":   {Kind: ID, Line: "public", Name: "8801217"},
		"":                    {},
		"/1.0":                {Name: "/1.0"},
		"public/":             {Line: "public"},
		"a/b/c":               {Line: "a", Name: "b/c"},
		"Newest":              {Name: "Newest"},
	} {
		got, err := Parse(text)
		require.NoError(t, err, text)
		require.Equal(t, text, got.String())
		got.text = ""
		require.Equal(t, want, got, text)
	}
	for _, text := range []string{"@", "@soon", "@2031-13-01", "public/@2031-8-5", "=", "=3fa9c", "id:", "public/id:", "public/=1"} {
		_, err := Parse(text)
		require.ErrorIs(t, err, ErrForm, text)
	}
	for text, want := range map[[2]string]string{{"", "2031-08-05"}: "@2031-08-05", {"preview", "@2031-08-05"}: "preview/@2031-08-05"} {
		got, err := OfDay(text[0], text[1])
		require.NoError(t, err)
		require.Equal(t, want, got.String())
		require.True(t, got.Relative())
	}
}
