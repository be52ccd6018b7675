package plan

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"morvant/internal/manifest"
	"morvant/internal/problem"
)

// StepsFormat is the format name and version of encoded steps.
const StepsFormat = "morvant-steps/1"

// Errors of encoded steps.
var (
	ErrFormat = errors.New("not the steps of a change")
)

type stepList struct {
	Format string `json:"format"`
	Steps  []Step `json:"steps"`
}

// EncodeSteps returns steps as JSON.
func EncodeSteps(steps []Step) []byte {
	b, err := json.Marshal(stepList{StepsFormat, steps})
	if err != nil {
		panic(err) // nodes always encode
	}
	return b
}

// DecodeSteps reads encoded steps and validates every path.
func DecodeSteps(b []byte) ([]Step, error) {
	var list stepList
	if err := json.Unmarshal(b, &list); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrFormat, err)
	}
	if list.Format != StepsFormat {
		if strings.HasPrefix(list.Format, "morvant-steps/") {
			return nil, fmt.Errorf("steps of format \"%s\": %w", list.Format, problem.ErrNewer)
		}
		return nil, fmt.Errorf("%w: format \"%s\"", ErrFormat, list.Format)
	}
	for i := range list.Steps {
		if err := list.Steps[i].Check(); err != nil {
			return nil, err
		}
	}
	return list.Steps, nil
}

// Check returns an error unless the step is one that a plan can hold.
func (s *Step) Check() error {
	if s.Before == nil && s.After == nil {
		return fmt.Errorf("%w: \"%s\": a step without effect", ErrFormat, s.Path)
	}
	paths := []string{s.Path}
	for _, p := range []string{s.From, s.Copy} {
		if p != "" {
			paths = append(paths, p)
		}
	}
	for _, p := range paths {
		if err := manifest.CheckPath(p); err != nil {
			return fmt.Errorf("%w: %v", ErrFormat, err)
		}
	}
	for _, n := range []*Node{s.Before, s.After} {
		if n == nil {
			continue
		}
		switch {
		case n.Kind == Link:
			// It may lead out of the folder: what was there comes back as it was.
			if !manifest.CanLead(n.Target) {
				return fmt.Errorf("%w: \"%s\": a link to what cannot be written down", ErrFormat, s.Path)
			}
		case n.Kind != File && n.Kind != Dir, n.Size < 0, n.Size > manifest.MaxSize:
			return fmt.Errorf("%w: \"%s\": a \"%s\" of %d bytes", ErrFormat, s.Path, n.Kind, n.Size)
		}
	}
	return nil
}
