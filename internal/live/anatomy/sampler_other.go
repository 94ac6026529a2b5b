//go:build !linux

package anatomy

import (
	"time"

	"nightdrill.dev/internal/core/anatomy"
)

// Sampler looks at nothing: it needs Linux.
type Sampler struct{}

// Sample begins to look at a process.
func Sample(int, time.Time) *Sampler { return &Sampler{} }

// End returns why nothing was seen.
func (*Sampler) End() (tasks []anatomy.Task, why string) {
	return nil, Seen()
}

// Seen returns why the threads of a start cannot be looked at here.
func Seen() string { return "it is seen on Linux alone" }
