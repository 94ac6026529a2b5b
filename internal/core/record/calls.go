package record

import (
	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/plan"
)

// Upstream names an upstream of the run, and how its stand-in worked.
type Upstream struct {
	Name      string         `json:"name"`
	Mode      string         `json:"mode"`
	Behaviour plan.Behaviour `json:"behaviour"`
	Proxy     bool           `json:"proxy,omitempty"`    // it was called through a proxy
	Recorded  int            `json:"recorded,omitempty"` // replies in the recording that it answered from
}

// Call is a call of a function to an upstream.
type Call struct {
	Invocation uint64 // during which it was made; 0 where that is not known, or there was none
	Among      int32  // invocations of the instance during one of which it was made, where it is not known which
	// First: first byte of the reply, 0 where there was none; Done: the reply's end, or the connection's
	Began, First, Done            clock.Time
	Waited                        clock.Time // of that, for the upstream's own limit
	Upstream, Function, Instance  int32
	Status                        int32 // 0 without a reply
	Label                         int32 // place in CallLabels, from 1; 0 where there were too many
	Way                           CallWay
	Failed                        CallFailure
	OnPurpose, Repeated, Starting bool // Starting: before the instance was ready
}

// CallWay is where the reply to a call came from.
type CallWay uint8

const (
	CallPassed   CallWay = iota // from the real service
	CallRecorded                // likewise, and it was recorded
	CallReplayed                // from the recording
	CallMissing                 // it was not in the recording
	CallPlanned                 // it failed on purpose
)

func (w CallWay) String() string {
	return [...]string{"passed", "recorded", "replayed", "missing", "planned"}[w]
}

// CallFailure is why a call has no reply.
type CallFailure uint8

const (
	CallAnswered    CallFailure = iota
	CallUnreachable             // the service was not reached
	CallReset                   // its connection ended before the reply did
	CallLeft                    // the function did not wait for it
)

func (f CallFailure) String() string {
	return [...]string{"", "not reached", "connection reset", "not waited for"}[f]
}

// LeastFailed is the lowest status of a reply that counts as failed.
const LeastFailed = 500

// Bad reports whether a call failed: it has no reply, or one that says that the service failed.
func (c *Call) Bad() bool { return c.Failed != CallAnswered || c.Status >= LeastFailed }

// CallLabel returns the request line of a call; "" where it is not known.
func (r *Run) CallLabel(c *Call) string {
	if c.Label < 1 || int(c.Label) > len(r.CallLabels) {
		return ""
	}
	return r.CallLabels[c.Label-1]
}

// CallsOf returns the calls that were made during an invocation, in the order in which they ended.
func (r *Run) CallsOf(invocation uint64) (out []Call) {
	for i := range r.Calls {
		if r.Calls[i].Invocation == invocation && invocation > 0 {
			out = append(out, r.Calls[i])
		}
	}
	return out
}
