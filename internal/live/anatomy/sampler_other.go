//go:build !linux

package anatomy

import (
	"time"

	"nightdrill/internal/core/anatomy"
)

// Sampler looks at nothing: it needs Linux.
type Sampler struct{}

// Sample begins to look at a process.
func Sample(int, time.Time) *Sampler { return &Sampler{} }

// End returns why nothing was seen.
func (*Sampler) End() (tasks []anatomy.Task, why string) {
	return nil, "where the time of a start goes is seen on Linux alone"
}
