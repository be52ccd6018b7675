package view

import (
	"fmt"

	"morvant/internal/lane"
	"morvant/internal/watch"
)

// FollowedLines tell of an update of a lane whose pin follows updates; none if none has come.
func FollowedLines(l *lane.Lane, f *watch.Followed) []string {
	switch {
	case f == nil:
		return nil
	case f.Waits != "":
		return []string{fmt.Sprintf("An update of %s has come, and the pin follows it once it is complete: %s.", l.Game.Display(), f.Waits)}
	case f.Anew:
		return []string{fmt.Sprintf("The launcher had put files of %s back; what the pin has beside them is laid over them again.", f.To.Label)}
	}
	lines := []string{fmt.Sprintf("%s has been updated to %s; what the pin has beside its build is laid over that. morvant unpin takes it off again.", l.Game.Display(), f.To.Label)}
	if f.Recorded {
		lines = append(lines, fmt.Sprintf("No known build was the same: it is recorded as %s, marked as possibly incomplete. If it is complete: morvant builds whole %s", f.To.Name(), Quoted(f.To.Label)))
	}
	for _, m := range f.Left {
		lines = append(lines, m.String())
	}
	return lines
}
