// Package progress holds the one way in which long work reports how far it is.
package progress

// Meter is told about long work. Implementations are safe for several
// goroutines and return at once.
type Meter interface {
	// Begin starts a task of total bytes; negative when unknown. It ends the
	// task before, if one is under way.
	Begin(task string, total int64)
	// Advance adds bytes done, lately in the named file (may be empty).
	Advance(bytes int64, file string)
	// End says that the task is over.
	End()
	// Warn passes on something the player should know though the work goes on.
	Warn(message string)
}

// None ignores everything.
type None struct{}

// Begin does nothing.
func (None) Begin(string, int64) {}

// Advance does nothing.
func (None) Advance(int64, string) {}

// End does nothing.
func (None) End() {}

// Warn does nothing.
func (None) Warn(string) {}
