// Package record holds what a run recorded: its arrivals, invocations, attempts, deliveries and
// instances, in the order in which they were made. A filter selects a part of a run; phases,
// failures and turns are read off its records without any statistics.
package record

import (
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
)

// Run is what a run recorded. Records are in the order in which they were made;
// arrivals are numbered by their event, from 0.
type Run struct {
	Project, Drill, ID string
	Seed               uint64
	Concurrency        int        // the project total; 0 if unknown
	Finished           bool       // the drill came to its end; not interrupted
	Begins             clock.Time // when events began to fall due; before, instances that are kept warm were started
	Length             clock.Time // from the first moment to the last record
	Functions          []Function
	Sources            []Source
	Budgets            []string
	Idempotence        bool // second deliveries are compared with the first
	Payloads           []Payload

	Arrivals    []Arrival
	Invocations []Invocation
	Attempts    []Attempt
	Deliveries  []Delivery
	Instances   []Instance
	Levels      []Level
	Loads       []MachineLoad // about every quarter of a second
	Calm        []Calm        // of the functions that a calm pass was made for
	Upstreams   []Upstream
	Calls       []Call
	CallLabels  []string // of calls, from 1: their request lines
	CallsLost   int      // calls that were not recorded, as there were too many
	Spans       []Span   // that functions sent
	SpanNames   []string // of spans, from 1
	SpansMissed SpansMissed
	ColdStarts  int               // of each variant, in a drill of cold starts; 0 in others
	EarlyOf     int               // cold starts that may end early, of so many; 0 for those that do not
	StoppedAt   int               // how many cold starts of each there were when they ended early; 0 if they did not
	Changes     []Change          // of limits and versions, while it ran
	Marks       []plan.Mark       // of the drill, counted from Begins
	Blobs       [][]byte          // bytes of events and replies, each once; of a run that was read back, none
	Open        []Invocation      // in flight at the moment; only while the run goes on
	LastDue     clock.Time        // of the last arrival
	Busy        float64           // share of the machine's processors that was in use; NaN when unknown
	Stolen      float64           // share of them that the host of a virtual machine gave to others; 0 when unknown
	Notes       []string          // of the driver: what went wrong outside the functions
	Rates       *plan.Rates       // what the user pays; nil if not set
	Self        *SelfCheck        // nil for runs from before there was one
	Machine     string            // what it ran on, in words
	Branch      string            // of the project's folder; "" if unknown
	Commit      string            // of the project's folder, and whether it had changes; "" if unknown
	Plan        []byte            // the plan of the run, as JSON; nil if unknown
	Said        map[uint64]string // the last log line of failed invocations, by their IDs
	Simulated   string            // the setting of a forecast that this is the simulation of; "" for what happened
	Filtered    bool              // a part of a run, chosen by a filter
	Doubt       Doubt             // whether its replies may be those to other requests
	// Server-Timing headers of first answers by their numbers, of a run that was read back
	Timings map[int32]string
}

// Doubt says whether replies of a run may be those to other requests. They count as unexpected.
type Doubt uint8

const (
	NoDoubt   Doubt = iota
	OnlyDoubt       // all replies that are unexpected may be
	AlsoDoubt       // some may be, others are not as their payloads expect
)

// Function names a function of the run and the limits that held.
type Function struct {
	Name        string `json:"name"`
	Max         int    `json:"max"`
	PerInstance int    `json:"per_instance"`
	KeepWarm    int    `json:"keep_warm"`
	Version     string `json:"version,omitempty"`  // of the code
	Attached    bool   `json:"attached,omitempty"` // it was started elsewhere: its starts are not measured
	OneShot     bool   `json:"one_shot,omitempty"` // it has a process for each invocation
	Spans       bool   `json:"spans,omitempty"`    // it was asked to send spans
	// how its instances come to be: "new process", "prepared", "parked"
	Way        string  `json:"way,omitempty"`
	Guaranteed int     `json:"guaranteed,omitempty"`
	Memory     int64   `json:"memory,omitempty"` // bytes that an instance may use; 0 for no bound
	CPU        float64 `json:"cpu,omitempty"`    // processors that an instance may use; 0 for no bound
	// of memory and processor time, in words; "" for the first process alone
	Meter    string        `json:"meter,omitempty"`
	Enforced string        `json:"enforced,omitempty"` // whether those bounds are, in words; "" where there are none
	Prepared time.Duration `json:"prepared,omitempty"` // what its preparation took; 0 when it is not known
	Size     int64         `json:"size,omitempty"`     // bytes of its package on disk; 0 when it is not known
}

// Source names a source of the run, its kind and its wires.
type Source struct {
	Name   string   `json:"name"`
	Kind   string   `json:"kind"`
	Routes []string `json:"routes,omitempty"` // http: of each wire
	To     []int    `json:"to,omitempty"`     // function of each wire
	Closed bool     `json:"closed,omitempty"` // fed by callers who wait for their answers
	// Speed is how many times as fast as time the clock of a schedule ran; 0 for as fast.
	Speed float64 `json:"speed,omitempty"`
}

// Payload names one payload that was sent.
type Payload struct {
	Set   string `json:"set"`
	N     int    `json:"n"`              // from 1
	Label string `json:"label"`          // its request line, or its type and id
	Blob  int32  `json:"blob,omitempty"` // number of its bytes, from 1
	// Object is the number of the bytes of the object that it reports; 0 where it reports
	// none, or they were not kept.
	Object int32 `json:"object,omitempty"`
}

// Arrival is an event that fell due.
type Arrival struct {
	Due, Arrived clock.Time
	From         int64         // the event that it was made of, or -1
	Delay        time.Duration // that faults made it wait for, after it had arrived; of a copy, after its original
	Payload      int32         // index in Payloads
	Round        int32         // how often the set had been used up before; of a reply that was sent on, its own number
	Source       int32
	Origin       engine.Origin
	Fault        uint8 // kinds of faults that befell it, as bits of package fault
}

// Invocation is one request to an instance that is over.
type Invocation struct {
	ID uint64
	// Received: first byte; Sent and Received are 0 where that did not happen
	Assigned, Sent, Received, Done clock.Time
	RetryAfter                     time.Duration // of the reply; 0 without one
	Function, Instance, Slot       int32
	Source, Wire                   int32
	Batch                          int32 // deliveries that it carried
	Status                         int32 // 0 without an answer
	Reply                          int32 // number of its bytes, from 1; 0 when they were not kept
	Timing                         int32 // number of its Server-Timing header, from 1; 0 without one
	Class                          engine.Class
	Result                         engine.Result
	Late                           bool // the lease had run out before the answer
	Unexpected                     bool // the answer broke what its payload expects
}

// Attempt is one attempt of a delivery.
type Attempt struct {
	Event      int64
	Invocation uint64 // 0 when it was lost to a failed start
	Source     int32
	Wire       int32
	N          int32 // from 1
	Result     engine.Result
}

// Delivery is a delivery that has its outcome.
type Delivery struct {
	Event      int64
	Invocation uint64 // of the last attempt, or 0
	Ended      clock.Time
	Source     int32
	Wire       int32 // -1 for an unmatched event
	Attempts   int32
	Outcome    engine.Outcome
	Cause      engine.Cause // of a rejection
}

// Change is a change of limits, or of a version, while the run went on.
type Change struct {
	At       clock.Time `json:"at"`
	Function int32      `json:"function"` // -1 for all
	Text     string     `json:"text"`
}

// Instance is one process of a function.
type Instance struct {
	ID       int32
	Function int32
	Number   int32 // within its function, from 1
	PID      int
	Spawned  clock.Time
	Exec     clock.Time    // the command runs; 0 when that cannot be distinguished
	Ready    clock.Time    // 0 when it never was
	Loader   time.Duration // of a handler: its loader's own work before Import; 0 for others
	Import   time.Duration // of a handler: loading the user's code, up to Ready
	Within   time.Duration // how much earlier it may have been ready
	Stopped  clock.Time    // 0 while it runs
	Reason   engine.Reason
	Exit     string        // how the process ended, in words
	Wanted   bool          // started for a waiting invocation, not to be kept warm
	Version  int32         // of the code, from 0
	Cause    engine.Cause  // of its start,
	After    engine.Reason // and of AfterStop what the last one had gone for
	Parked   bool          // it had been started ahead, and was stopped in memory
	Peak     int64         // bytes of memory at most, as far as was seen; 0 when it is not known
	CPU      time.Duration // processor time, as far as was seen
	ReadyCPU time.Duration `json:",omitempty"` // of that, until it was ready; 0 where it is not known
	// how long its threads waited for a processor, until it was ready and in all, as far as was seen; 0 where it is
	// not known
	ReadyWait, Wait time.Duration `json:",omitempty"`
	Load            float64       `json:"-"` // processors that it used at last, while it runs
	// share of its files' pages that left the system's cache before its start; nil where none was dropped
	Left *float64 `json:",omitempty"`
}

// MachineLoad is what the machine did until a moment, since the one before.
type MachineLoad struct {
	At      clock.Time
	Busy    int32 // of its processors, in thousandths of one
	Ours    int32 // likewise, by the instances
	Running int32 // processes that ran or waited for a processor at that moment; -1 where it is not known
	Stalled int32 // share of the time in which some process waited for a processor, in thousandths; likewise
}

// Calm is what invocations of a function took before the drill, warm and one at a time.
type Calm struct {
	Function int32         `json:"function"`
	N        int           `json:"n"`
	Wall     time.Duration `json:"wall"`   // in all
	CPU      time.Duration `json:"cpu"`    // of the function's processes, in all; 0 where it is not known
	Median   time.Duration `json:"median"` // of the service times
}

// Level is the state of a function from a moment on.
type Level struct {
	At                                           clock.Time
	Function, Waiting, InFlight, Starting, Ready int32
}
