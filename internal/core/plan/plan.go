// Package plan is a resolved project: everything the engine and the driver
// need to know, with names turned into indices, defaults filled in and limits
// checked. It knows no file format; package project makes it from one.
package plan

import (
	"time"

	"nightdrill/internal/core/arrival"
	"nightdrill/internal/core/payload"
	"nightdrill/internal/core/route"
	"nightdrill/internal/core/shape"
)

// Project is a project ready to be run.
type Project struct {
	Name        string
	Dir         string // absolute; commands and recordings are relative to it
	Concurrency int    // invocations in flight and instances being started, all functions together
	Services    []Service
	Functions   []Function
	Sources     []Source
	Sets        []payload.Set
	Drills      []Drill
}

// Function is the user's code behind one name.
type Function struct {
	Name         string
	Transport    Transport
	Address      string   // attach: host and port
	Start        []string // the command; {port} stands for the port to listen on, {instance} for a unique name
	Stop         []string // a command that stops an instance whose process is elsewhere; nil for none
	Build        []string // a command before the first start and after a change; nil for none
	Prepare      []string // a command once for each version of the code; nil for none
	Watch        []string // patterns of files below the project's folder that make a version of the code
	Needs        []int    // indices of services that must be there first
	Dir          string   // absolute
	Env          []string // NAME=value, sorted
	Ready        Ready
	Path         string // where events that are not HTTP requests are POSTed
	Deliver      Deliver
	Shape        *shape.Shape  // of DeliverShaped
	Timeout      time.Duration // of one invocation
	StartTimeout time.Duration
	Limits       Limits
	Variants     []Function // the same with some settings changed, named function@variant; they have none themselves
}

// Transport says how a function is reached.
type Transport uint8

const (
	HTTPTransport Transport = iota // a process of ours that answers HTTP
	Attach                         // a process that somebody else started
)

// Service is something that functions need beside them: a database, a broker.
type Service struct {
	Name         string
	Start        []string
	Stop         []string // nil for SIGTERM
	Reset        []string // between runs; nil for nothing
	Dir          string
	Env          []string
	Ready        Ready // of ReadyTCP and ReadyHTTP the address is in Path, of ReadyExit the command's end
	StartTimeout time.Duration
}

// Limits are the settings of a function that a drill or a user may change
// while it runs.
type Limits struct {
	Max         int // invocations in flight, and instances being started for a waiting one
	Guaranteed  int // of the project's limit, kept for this function
	PerInstance int // invocations in flight on one instance
	KeepWarm    int // instances that are kept although nothing needs them
	IdleAfter   time.Duration
}

// Instances gives the most instances that the limits allow.
func (l Limits) Instances() int {
	if l.PerInstance < 1 {
		return l.Max
	}
	return (l.Max + l.PerInstance - 1) / l.PerInstance
}

// Readiness says how it is noticed that an instance is ready.
type Readiness uint8

const (
	ReadyTCP  Readiness = iota // the port is listened on
	ReadyHTTP                  // Path answers 2xx
	ReadyLine                  // a line of the output matches Line
	ReadyExit                  // the command ends with code 0; of services alone
	ReadyRuns                  // the command runs; of services alone
)

// Ready is a function's readiness condition.
type Ready struct {
	By   Readiness
	Path string
	Line string // a regular expression (RE2)
}

// Deliver is the form in which an event is handed to a function.
type Deliver uint8

const (
	DeliverBinary     Deliver = iota // CloudEvents HTTP binding, binary mode
	DeliverStructured                // CloudEvents HTTP binding, structured mode
	DeliverBody                      // the payload's bytes alone
	DeliverShaped                    // what a template makes of the event
)

func (d Deliver) String() string { return [...]string{"binary", "structured", "body", "shaped"}[d] }

// Kind is the kind of a source.
type Kind uint8

const (
	HTTP Kind = iota
	Queue
)

func (k Kind) String() string { return [...]string{"http", "queue"}[k] }

// Source is where events come from.
type Source struct {
	Name  string
	Kind  Kind
	Wires []Wire        // at most 64
	Wait  time.Duration // http: how long a request may wait for capacity before it is rejected

	BatchMax   int           // queue: messages of one invocation
	BatchWait  time.Duration // queue: how long a batch may wait to be filled
	Lease      time.Duration // queue: how long a message is hidden from others once handed over
	Attempts   int           // queue: hand-overs before a message is given up
	Backoff    time.Duration // queue: pause before the second attempt, doubling up to 5 s
	MaxAge     time.Duration // queue: from arrival; 0 for no bound
	DeadLetter int           // queue: index of the queue for messages given up, or -1
}

// Wire connects a source to a function.
type Wire struct {
	To   int        // index of the function
	When route.When // http: which requests it takes
}

// Drill is a plan of what reaches which source, when and under which limits.
type Drill struct {
	Name    string
	Seed    uint64
	Feeds   []Feed
	Settle  time.Duration
	Limits  []Limits // one for each function: its own, or what the drill makes of them
	Budgets []Budget
}

// Feed sends the payloads of a set to a source.
type Feed struct {
	Source int
	Set    int
	Phases []arrival.Phase
}

// Budget is a figure with a bound that the run must keep. Package measure
// reads its text and judges it.
type Budget struct{ Text string }

// FunctionNamed gives the index of a function, or -1.
func (p *Project) FunctionNamed(name string) int {
	for i := range p.Functions {
		if p.Functions[i].Name == name {
			return i
		}
	}
	return -1
}

// SourceNamed gives the index of a source, or -1.
func (p *Project) SourceNamed(name string) int {
	for i := range p.Sources {
		if p.Sources[i].Name == name {
			return i
		}
	}
	return -1
}

// DrillNamed gives a drill, or nil.
func (p *Project) DrillNamed(name string) *Drill {
	for i := range p.Drills {
		if p.Drills[i].Name == name {
			return &p.Drills[i]
		}
	}
	return nil
}

// Takes gives the wires of source s that take a payload, as a set of bits:
// for HTTP the first wire whose conditions hold, for a queue all of them.
func (p *Project) Takes(s int, pl *payload.Payload) uint64 {
	src := &p.Sources[s]
	if src.Kind == HTTP {
		for i := range src.Wires {
			if pl.Request != nil && src.Wires[i].When.Matches(pl.Request) {
				return 1 << i
			}
		}
		return 0
	}
	return 1<<len(src.Wires) - 1
}
