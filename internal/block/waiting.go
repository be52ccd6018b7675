package block

import (
	"errors"
	"os"
	"strings"

	"morvant/internal/edit"
)

// Waiting says where a launcher's state tells which update it has waiting.
type Waiting struct {
	File string `toml:"file"` // ~, $VARIABLES; relative to the live folder
	Find string `toml:"find"` // RE2, line by line, captures the build
}

// Check returns an error if the rule cannot be used.
func (w Waiting) Check() error {
	if w.File == "" || w.Find == "" {
		return errors.New("a rule for waiting updates needs file and find")
	}
	_, err := edit.Pattern(w.Find)
	return err
}

// Update returns the update that is waiting, as the launcher calls it; empty if none
// is, or the file is not there.
func (w Waiting) Update(at Place) (string, error) {
	d, err := edit.Read(at.resolve(w.File))
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	p, err := edit.Pattern(w.Find)
	if err != nil {
		return "", err
	}
	m := p.FindStringSubmatch(d.Text)
	if m == nil {
		return "", nil
	}
	return strings.TrimSpace(m[1]), nil
}
