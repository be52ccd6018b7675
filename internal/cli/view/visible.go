package view

import (
	"fmt"
	"io"
	"unicode"
	"unicode/utf8"
)

// Visible is the one place through which text goes to people. What would move the cursor,
// hide something or turn the direction of reading is written out instead: names, notes and
// values come from others. Colours pass, as far as Morvant itself sets them.
type Visible struct{ w io.Writer }

// Visibly returns a Visible that writes to w.
func Visibly(w io.Writer) Visible { return Visible{w} }

func (v Visible) Write(b []byte) (int, error) {
	if _, err := v.w.Write(MadeVisible(b)); err != nil {
		return 0, err
	}
	return len(b), nil
}

// MadeVisible writes out what would steer a terminal, but for the colours that Morvant sets.
func MadeVisible(b []byte) []byte {
	clean := true
	for _, c := range b {
		if c < ' ' && c != '\n' && c != '\t' || c >= 0x7f {
			clean = false
			break
		}
	}
	if clean {
		return b
	}
	out := make([]byte, 0, len(b)+16)
	for len(b) > 0 {
		if n := colour(b); n > 0 {
			out = append(out, b[:n]...)
			b = b[n:]
			continue
		}
		r, n := utf8.DecodeRune(b)
		switch {
		case r == '\n' || r == '\t' || n > 1 && !hidden(r) || n == 1 && r >= ' ' && r < 0x7f:
			out = append(out, b[:n]...)
		case r == utf8.RuneError && n == 1:
			out = fmt.Appendf(out, `\x%02x`, b[0])
		case r < 0x100:
			out = fmt.Appendf(out, `\x%02x`, r)
		case r < 0x10000:
			out = fmt.Appendf(out, `\u%04x`, r)
		default:
			out = fmt.Appendf(out, `\U%08x`, r)
		}
		b = b[n:]
	}
	return out
}

// hidden reports whether a character acts on others instead of being seen.
func hidden(r rune) bool {
	return unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp)
}

// colours are the sequences that Morvant's own output has: bold, faint, three colours,
// and the ends of these.
var colours = []string{"\x1b[m", "\x1b[0m", "\x1b[1m", "\x1b[2m", "\x1b[22m", "\x1b[31m", "\x1b[32m", "\x1b[36m", "\x1b[39m", "\x1b[1;31m", "\x1b[1;32m", "\x1b[1;36m"}

// colour returns the length of one of Morvant's own sequences at the start of b; 0 if
// there is none.
func colour(b []byte) int {
	if b[0] != 0x1b {
		return 0
	}
	for _, c := range colours {
		if len(b) >= len(c) && string(b[:len(c)]) == c {
			return len(c)
		}
	}
	return 0
}
