//go:build long

package upkeep

import "time"

// travels is for how long journeys are begun.
const (
	travels          = time.Minute
	firstSeed uint64 = 100
)
