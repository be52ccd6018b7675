//go:build !long

package upkeep

import "time"

// travels is for how long journeys are begun.
const (
	travels   time.Duration = 0
	firstSeed uint64        = 1
)
