package block

import (
	"context"
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
		return errors.New("this rule needs file and find")
	}
	_, err := edit.Compile(w.Find)
	return err
}

// Update returns the update that is waiting, as the launcher calls it; empty if none
// is, or the file is not there.
func (w Waiting) Update(at Site) (string, error) {
	d, err := edit.Read(at.resolve(w.File))
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	p, err := edit.Compile(w.Find)
	if err != nil {
		return "", err
	}
	found, err := p.All(context.Background(), d.Text)
	if err != nil || len(found) == 0 || found[0][2] < 0 {
		return "", err
	}
	return strings.TrimSpace(d.Text[found[0][2]:found[0][3]]), nil
}
