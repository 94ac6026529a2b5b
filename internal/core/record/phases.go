package record

import (
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
)

// Phase is a stretch of one invocation's time.
type Phase struct {
	Name     string
	From, To clock.Time
	Start    bool // it is a part of the start of the instance
}

// Took is how long a phase took.
func (p Phase) Took() time.Duration { return p.To.Sub(p.From) }

// Phases returns where the time of an invocation went, from when its event arrived to the last byte
// of its reply. For a cold one the start of its instance is part of it. What cannot be told from
// each other is one phase.
func Phases(arrived clock.Time, in *Instance, v *Invocation) (out []Phase) {
	at := arrived
	until := func(name string, to clock.Time) {
		if to > at {
			out = append(out, Phase{name, at, to, v.Class == engine.Cold && at >= in.Spawned && to <= in.Ready})
			at = to
		}
	}
	if v.Class == engine.Cold && in.Ready > 0 {
		until("wait", in.Spawned)
		if in.Exec > 0 {
			until("spawn", in.Exec)
			if in.Import > 0 && in.Exec.Add(in.Loader+in.Import) <= in.Ready {
				until("interpreter", in.Ready.Add(-in.Import-in.Loader))
				until("loader", in.Ready.Add(-in.Import))
				until("import", in.Ready)
			}
			until("boot", in.Ready)
		} else {
			until("spawn, boot", in.Ready)
		}
		until("hand over", v.Sent)
	} else {
		until("wait", max(v.Sent, v.Assigned))
	}
	if v.Received == 0 {
		until("no reply", v.Done)
		return out
	}
	until("first byte", v.Received)
	until("rest", v.Done)
	return out
}

// HeldBack reports whether a reply came in two pieces about 40 ms apart: as long as Linux waits with an acknowledgement
// (RFC 1122 §4.2.3.2), for which the second of two small pieces waits (RFC 896).
func (v *Invocation) HeldBack() bool {
	d := v.Done.Sub(v.Received)
	return v.Result == engine.OK && v.Received > 0 && d > 36*time.Millisecond && d < 56*time.Millisecond
}
