package engine

import (
	"strings"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/plan"
)

// InputKind is what happened.
type InputKind uint8

const (
	Wake        InputKind = iota // it is time; also the first input of a run
	Arrived                      // an event fell due: Source, Takes
	Ready                        // an instance is ready: Instance
	StartFailed                  // an instance is gone without having been ready: Instance
	Exited                       // an instance's process is gone: Instance
	Answered                     // an invocation was answered: Instance, Slot, Invocation, Status, Retry
	Broken                       // an invocation got no usable answer: Instance, Slot, Invocation, Result
	CallerLeft                   // an HTTP caller went away
	SetLimits                    // a function's limits changed: Function, Limits
	Replace                      // a function has a new version: its instances are replaced one by one: Function
	NoMore                       // the last arrival has come
	End                          // the run ends now
	Clear                        // a function's instances are stopped, so that what comes next finds none: Function
	// a function is looked at in a debugger: one instance at most, no timeout, no idle stop: Function
	Hold
	Release    // the end of Hold: times begin anew: Function
	SetProject // the project's limit changed: Concurrency
)

// answers reports whether inputs of this kind come before timers of the same time.
func (k InputKind) answers() bool {
	return k == Answered || k == Broken || k == Exited || k == Ready || k == StartFailed
}

// Input is one thing that happened. Which fields count is said at its kind.
type Input struct {
	Kind       InputKind `json:"kind,omitzero"`
	Source     int32     `json:"source,omitzero"`
	Function   int32     `json:"function,omitzero"`
	Instance   int32     `json:"instance,omitzero"`
	Slot       int32     `json:"slot,omitzero"`
	Invocation uint64    `json:"invocation,omitzero"`
	Status     int32     `json:"status,omitzero"` // HTTP status
	Result     Result    `json:"result,omitzero"` // Broken: in which way
	// Answered: positions in the batch that the reply fails; nil for none
	Retry      []int32       `json:"retry,omitzero"`
	RetryAfter time.Duration `json:"retry_after,omitzero"` // Answered: the function's own Retry-After, 0 for none
	// Arrived: the wires of the source that take the event, as bits
	Routes  uint64        `json:"takes,omitzero"`
	Key     int32         `json:"key,omitzero"`      // Arrived: partition or group, from 1; 0 where order is nothing
	Delay   time.Duration `json:"delay,omitzero"`    // Arrived: how long the event cannot be seen yet
	Async   bool          `json:"async,omitzero"`    // Arrived: HTTP, no one waits for the answer
	AckLost bool          `json:"ack_lost,omitzero"` // Answered: the source does not hear of it
	Then    []Then        `json:"then,omitzero"`     // Answered: what the reply is sent on as
	Limits  plan.Limits   `json:"limits,omitzero"`

	Concurrency int32 `json:"concurrency,omitzero"`
}

// Then is an event that a reply is sent on as, once it has settled its
// invocation well.
type Then struct {
	Source int32  `json:"source,omitzero"`
	Takes  uint64 `json:"takes,omitzero"`
	Key    int32  `json:"key,omitzero"`
}

// EffectKind is what the caller owes, or should know.
type EffectKind uint8

const (
	// EventTaken: an event got its number. Event, Source; Origin says when it was
	// made from another, From.
	EventTaken EffectKind = iota
	// Start: start an instance, and report Ready, StartFailed or Exited for it.
	// Function, Instance, Number, Version; Cause, and of AfterStop the Reason.
	Start
	// Send: send one invocation to a slot, and report Answered or Broken for it
	// exactly once. Function, Instance, Slot, Invocation, Class, Source, and the
	// events of the batch at [First, First+N) of Effects.Events.
	Send
	// Stop: stop an instance, because of Reason, and report Exited. Function, Instance.
	Stop
	// AttemptEnded: an attempt of a delivery is over, with a Result. Event,
	// Wire, Attempt; Instance and Invocation, or -1 and 0 when the attempt was
	// lost to a failed start.
	AttemptEnded
	// Ended: a delivery reached its Outcome. Event, Source, Wire (-1 for an
	// unmatched event), Attempt (how many it had), Invocation (the last, or 0); Cause of a rejection. For HTTP the
	// caller is owed its answer now.
	Ended
	// GivenUp: an invocation took longer than the function's timeout; it is not
	// in flight any more. Function, Instance, Slot, Invocation.
	GivenUp
	// Late: an answer came that settles nothing any more. Instance, Slot, Invocation.
	Late
	// Extended: a lease was extended, since the function still works. Function,
	// Instance, Slot, Invocation.
	Extended
	// Over: nothing is left to wait for, or settling took too long; send End.
	Over
)

// Effect is one thing that the engine wants done or known. Which fields count
// is said at its kind.
type Effect struct {
	Kind       EffectKind `json:"kind,omitzero"`
	Class      Class      `json:"class,omitzero"`
	Reason     Reason     `json:"reason,omitzero"`
	Result     Result     `json:"result,omitzero"`
	Outcome    Outcome    `json:"outcome,omitzero"`
	Origin     Origin     `json:"origin,omitzero"`
	Cause      Cause      `json:"cause,omitzero"`
	Function   int32      `json:"function,omitzero"`
	Source     int32      `json:"source,omitzero"`
	Wire       int32      `json:"wire,omitzero"`
	Instance   int32      `json:"instance,omitzero"`
	Number     int32      `json:"number,omitzero"`  // the instance's number within its function, from 1
	Version    int32      `json:"version,omitzero"` // of the code, from 0
	Slot       int32      `json:"slot,omitzero"`
	Attempt    int32      `json:"attempt,omitzero"` // from 1
	Status     int32      `json:"status,omitzero"`
	First      int32      `json:"first,omitzero"`
	N          int32      `json:"n,omitzero"`
	Invocation uint64     `json:"invocation,omitzero"` // from 1
	Event      int64      `json:"event,omitzero"`
	From       int64      `json:"from,omitzero"`
	At         clock.Time `json:"at,omitzero"`
}

// Origin is where an event comes from.
type Origin uint8

const (
	FromOutside    Origin = iota
	FromDeadLetter        // of another source
	FromReply             // of a function
	FromFault             // it was delivered again by a fault; said by the driver, never by the engine
	FromPublish           // a function, or someone outside, published it; said by the driver, likewise
)

// Effects is memory for effects, owned by the caller, who may reuse it.
type Effects struct {
	List   []Effect
	Events []int64 // events of batches
}

// Reset empties the memory and keeps it.
func (f *Effects) Reset() { f.List, f.Events = f.List[:0], f.Events[:0] }

// Class is the state in which an invocation found its instance.
type Class uint8

const (
	Warm  Class = iota
	Cold        // dispatched in the step that made the instance ready, while it was waiting
	First       // otherwise, sent before the instance's first answer
)

func (c Class) String() string { return [...]string{"warm", "cold", "first"}[c] }

// Reason is why an instance was stopped. Runs keep reasons, results, outcomes and classes by their
// numbers: new ones go to the end.
type Reason uint8

const (
	Idle Reason = iota
	LimitLowered
	TimedOut
	NeverReady // start_timeout passed
	RunOver
	Crashed // the process went by itself; said by the driver, never by the engine
	Replaced
	Cleared
	Finished    // of a function that has a process for each invocation: that was it
	OutOfMemory // the system ended it for its use of memory; said by the driver, never by the engine
)

func (r Reason) String() string {
	return [...]string{"idle", "limit lowered", "timed out", "never ready", "run over", "crashed", "replaced",
		"cleared", "finished", "out of memory"}[r]
}

// Cause is why an instance was started, or why an event was rejected. Runs keep causes by their
// numbers: new ones go to the end.
type Cause uint8

const (
	NoCause       Cause = iota
	NothingThere        // a start: there had been no instance before
	AllBusy             // a start: every instance was busy at its limit
	AfterStop           // a start: the last instance had gone, for a Reason
	KeptWarm            // a start: keep_warm wants it
	NewVersion          // a start: it takes the place of an older version
	AtLimit             // a rejection: the function's limit was reached
	AtProject           // a rejection: the project's limit was
	StartsBounded       // a rejection: no instance may be added yet
	LimitZero           // a rejection: the limit is 0
	TurnedAway          // a rejection: the function rejects everything
	PlacesHeld          // a rejection: instances that finish their last work hold the places
	Causes              // how many there are
)

func (c Cause) String() string {
	return [...]string{"", "no instance", "all busy", "the last one had stopped", "to keep one warm", "new version",
		"the function's limit", "the project's limit", "the start rate", "a limit of 0", "everything is rejected",
		"stopping instances hold their slots"}[c]
}

// Result is how an attempt ended.
type Result uint8

const (
	OK           Result = iota
	BadStatus           // a status that means failure
	Unreachable         // no connection
	Disconnected        // the connection ended before the reply did
	Garbled             // the reply is not HTTP
	TooLarge            // the reply is larger than allowed
	Timeout
	Crash        // the process ended
	LeaseOver    // the lease ran out before the answer
	StartFailure // the instance that it waited for did not start
	Retried      // the reply asked for this event again
	RunEnded
	UnknownRetry // the reply asked again for an event that was not in the batch
	AckLost      // the function did the work, the source did not hear of it
	Behind       // of a stream: a record before it in the batch is to come again
	Results      // how many there are
)

func (r Result) String() string {
	return [...]string{"ok", "bad status", "unreachable", "disconnected", "garbled", "too large", "timeout",
		"crashed", "lease expired", "start failed", "retry requested", "run over", "retry of an unknown event",
		"acknowledgement lost", "behind a failed record"}[r]
}

// Outcome is how a delivery ended.
type Outcome uint8

const (
	Done Outcome = iota
	Failed
	DeadLettered
	Rejected
	Expired
	Skipped
	Unmatched
	Abandoned
	Outcomes // how many there are
)

func (o Outcome) String() string {
	return [...]string{"done", "failed", "dead_lettered", "rejected", "expired", "skipped", "unmatched", "abandoned"}[o]
}

// Words returns the outcome as it is written in a sentence.
func (o Outcome) Words() string { return strings.ReplaceAll(o.String(), "_", "-") }
