package edit

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"regexp/syntax"
	"sort"
	"strings"
)

// Limits of a search. RE2 patterns take no longer than their compiled size times that of
// the text; both may be somebody else's.
const (
	maxPattern = 1000 // bytes of a pattern
	maxProgram = 2000 // instructions that it compiles to
	// maxSteps bounds instructions times bytes of text: some ten seconds at the worst.
	maxSteps = 512 << 20
)

// ErrTooMuch is returned for a search that would take too long.
var ErrTooMuch = errors.New("the search would take too long")

// Pattern captures one value, line by line.
type Pattern struct {
	re      *regexp.Regexp
	program int // instructions
}

// Compile reads a pattern (RE2) with one captured value.
func Compile(find string) (*Pattern, error) {
	if len(find) > maxPattern {
		return nil, fmt.Errorf("a pattern may have %d bytes, not %d: %w", maxPattern, len(find), ErrTooMuch)
	}
	text := "(?m)" + find
	re, err := regexp.Compile(text)
	if err != nil {
		return nil, err
	}
	if re.NumSubexp() != 1 {
		return nil, fmt.Errorf("the pattern \"%s\" must capture one value", find)
	}
	tree, err := syntax.Parse(text, syntax.Perl)
	if err != nil {
		return nil, err
	}
	program, err := syntax.Compile(tree.Simplify())
	if err != nil {
		return nil, err
	}
	if n := len(program.Inst); n > maxProgram {
		return nil, fmt.Errorf("the pattern \"%s\" repeats too much: %w", find, ErrTooMuch)
	}
	return &Pattern{re: re, program: len(program.Inst)}, nil
}

// All finds every place in the text: four indexes each, of the whole and of the value. It
// ends with the context. A line ends before its CR LF as before a LF alone, so that no value has the CR; only where nothing
// is found so, a pattern may be about the CR itself.
func (p *Pattern) All(ctx context.Context, text string) ([][]int, error) {
	if int64(len(text))*int64(p.program) > maxSteps {
		return nil, fmt.Errorf("%d KB are too many for the pattern \"%s\": %w", len(text)>>10, p.re, ErrTooMuch)
	}
	found := make(chan [][]int, 1)
	go func() {
		lines, ends := withoutCR(text)
		list := p.re.FindAllStringSubmatchIndex(lines, -1)
		if len(list) == 0 && len(ends) > 0 {
			found <- p.re.FindAllStringSubmatchIndex(text, -1)
			return
		}
		for _, m := range list {
			for i, at := range m {
				m[i] += sort.SearchInts(ends, at)
			}
		}
		found <- list
	}()
	select {
	case list := <-found:
		return list, nil
	case <-ctx.Done():
		return nil, ctx.Err() // the search ends by itself, unheard
	}
}

// withoutCR returns a text with LF in place of each CR LF, and where these are in it.
func withoutCR(text string) (lines string, ends []int) {
	parts := strings.Split(text, "\r\n")
	at := 0
	for _, part := range parts[:len(parts)-1] {
		at += len(part)
		ends = append(ends, at)
		at++
	}
	return strings.Join(parts, "\n"), ends
}
