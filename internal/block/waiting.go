package block

import (
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
)

// Waiting says where a launcher's state tells which update it has waiting.
type Waiting struct {
	File string `toml:"file"` // ~, $VARIABLES; relative to the live folder
	Find string `toml:"find"` // RE2, line by line, captures the build
}

// Check returns an error if the rule cannot be used.
func (w Waiting) Check() error {
	p, err := regexp.Compile("(?m)" + w.Find)
	switch {
	case w.File == "" || w.Find == "":
		return errors.New("a rule for waiting updates needs file and find")
	case err != nil:
		return err
	case p.NumSubexp() != 1:
		return fmt.Errorf("the pattern %q must capture one value", w.Find)
	}
	return nil
}

// Update returns the update that is waiting, as the launcher calls it; empty if none
// is, or the file is not there.
func (w Waiting) Update(at Place) (string, error) {
	d, err := readDocument(at.resolve(w.File))
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	p, err := regexp.Compile("(?m)" + w.Find)
	if err != nil {
		return "", err
	}
	m := p.FindStringSubmatch(d.text)
	if m == nil {
		return "", nil
	}
	return strings.TrimSpace(m[1]), nil
}
