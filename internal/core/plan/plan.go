// Package plan is a resolved project: everything the engine and the driver
// need to know, with names turned into indices, defaults filled in and limits
// checked. It knows no file format; package project makes it from one.
package plan

import (
	"slices"
	"time"

	"nightdrill/internal/core/arrival"
	"nightdrill/internal/core/event"
	"nightdrill/internal/core/fault"
	"nightdrill/internal/core/payload"
	"nightdrill/internal/core/route"
	"nightdrill/internal/core/schedule"
	"nightdrill/internal/core/template"
)

// Project is a project ready to be run.
type Project struct {
	Name         string
	Dir          string // absolute; commands and recordings are relative to it
	Concurrency  int    // invocations in flight and instances being started, all functions together
	Services     []Service
	Functions    []Function
	Sources      []Source
	Sets         []payload.Set
	Drills       []Drill
	MemoryPerCPU int64  // bytes that come with one processor, for functions whose CPU goes by memory; 0 where it is not said
	Rates        *Rates // what the user pays; nil when they do not say
	Keep         Keeping
	Steps        int // of a chain at most: what a reply sends on beyond them is not sent
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
	Package      []string // patterns of the files that are deployed, below the project's folder; nil for those of Watch
	Needs        []int    // indices of services that must be there first
	Dir          string   // absolute
	Env          []string // NAME=value, sorted
	Ready        Ready
	Path         string // where events that are not HTTP requests are POSTed
	Deliver      Deliver
	Shape        *template.Shape // of DeliverShaped
	Timeout      time.Duration   // of one invocation
	StartTimeout time.Duration
	Limits       Limits
	Replace      Replacement // how a new version takes the place of an old one
	Socket       bool        // it listens on a Unix socket, {socket}, and not on a port
	Fresh        bool        // a connection of its own for each request
	Parked       int         // processes that are started ahead and stopped in their tracks until they are wanted
	Memory       int64       // bytes that an instance may use; 0 for no bound
	CPU          float64     // processors that an instance may use; 0 for no bound
	ByMemory     bool        // CPU goes by Memory
	Dropped      bool        // of a drill of cold starts: its files are dropped from the system's cache before each
	Then         []Then
	Variants     []Function // the same with some settings changed, named function@variant; they have none themselves
}

// Transport says how a function is reached.
type Transport uint8

const (
	HTTPTransport Transport = iota // a process of ours that answers HTTP
	Attach                         // a process that somebody else started
	Lines                          // a process of ours that reads events from standard input, a line each, and writes a reply a line
	OneShot                        // a process for each invocation, by CGI (RFC 3875)
)

func (t Transport) String() string { return Transports[t] }

// Transports names the transports, by their numbers.
var Transports = []string{"http", "attach", "lines", "oneshot"}

// Replacement says how a new version of a function's code takes the place of the
// one before.
type Replacement uint8

const (
	OneByOne   Replacement = iota // each old instance goes when a new one in its place is ready
	AtOnce                        // all old instances are drained at once, and as many new ones started
	SideBySide                    // as many new ones are started beside the old, which go together once all of those are ready
)

func (r Replacement) String() string { return Replacements[r] }

// Replacements names the ways of replacement, by their numbers.
var Replacements = []string{"one_by_one", "at_once", "side_by_side"}

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
	StartEvery  time.Duration // one instance may be added in each such time; 0 for no bound
	StartBurst  int           // instances that may be added before that bound is felt
	TurnAway    bool          // nothing is handed over: HTTP is rejected, the rest waits; instances stay
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
	Storage
	Stream
	Schedule
)

// Kinds names the kinds of sources, by their numbers.
var Kinds = []string{"http", "queue", "storage", "stream", "schedule"}

func (k Kind) String() string { return Kinds[k] }

// OnFailure says what becomes of a stream's batch whose attempts are used up.
type OnFailure uint8

const (
	Skip  OnFailure = iota // all of it is given up
	Split                  // it is halved until the bad record stands alone
)

// WhileRunning says what becomes of a schedule's time at which the function is
// still busy with an earlier one.
type WhileRunning uint8

const (
	Drop     WhileRunning = iota // it is left out
	Wait                         // it comes when the earlier one is over
	Parallel                     // it comes beside it
)

// Source is where events come from.
type Source struct {
	Name  string
	Kind  Kind
	Wires []Wire        // at most 64
	Wait  time.Duration // http: how long a request may wait for capacity before it is rejected

	BatchMax   int           // queue, stream: messages or records of one invocation
	BatchWait  time.Duration // queue, stream: how long a batch may wait to be filled
	Lease      time.Duration // queue: how long a message is hidden from others once handed over
	LeaseMost  time.Duration // queue: up to where the lease is extended while the function works; 0 for not at all
	Attempts   int           // all but http: hand-overs before an event is given up
	Backoff    time.Duration // all but http: pause before the second attempt, doubling up to 5 s
	MaxAge     time.Duration // queue: from arrival; 0 for no bound
	Delay      time.Duration // queue: from arrival until a message can be seen
	DeadLetter int           // all but http: index of the queue for events given up, or -1
	Key        string        // queue: of the group whose messages stay in order, "" for none; stream: of the partition. A JSON Pointer, or the name of an attribute

	Partitions int       // stream
	OnFailure  OnFailure // stream
	FromNew    bool      // stream: records that were there before are not read

	Poll   time.Duration // storage: changes are found at multiples of it; 0 when they are told at once
	Bucket string        // storage
	Folder string        // storage: absolute, whose files are the bucket's objects; "" for the object store's own

	Times        []schedule.Spec // schedule
	WhileRunning WhileRunning    // schedule
	CatchUp      bool            // schedule: times that were missed while the program slept are made up for, once

	CORS  *CORS  // http: nil for none
	Token string `json:"-"` // http: the bearer token that is wanted; "" for none. A journal does not have it
}

// CORS says which browsers' pages may ask (Fetch Standard §3.2).
type CORS struct {
	Origins     []string // "*" for all
	Headers     []string // that a request may have beyond the simple ones
	Expose      []string // headers of replies that a page may read
	Credentials bool
	MaxAge      time.Duration // how long a browser may remember
}

// Wire connects a source to a function.
type Wire struct {
	To   int        // index of the function
	When route.When // which events it takes
}

// Then sends a function's reply on as an event of another source.
type Then struct {
	To      int // index of the source
	Status  []StatusRange
	Header  []event.Field   // of the reply; a value of "*" wants it present
	Values  []payload.Value // of the reply's body, at JSON Pointers
	Shape   *template.Shape // what the reply is made into; nil for the reply as it is
	Type    string          // of the event
	Method  string          // http: of the request
	Path    string          // http: its target
	Objects *template.Shape // storage: gives the object's key
}

// StatusRange is a range of HTTP statuses, both ends included.
type StatusRange struct{ From, To int }

// Drill is a plan of what reaches which source, when and under which limits.
type Drill struct {
	Name        string
	Seed        uint64
	Feeds       []Feed
	Settle      time.Duration
	Limits      []Limits      // one for each function: its own, or what the drill makes of them
	Concurrency int           // of all functions together
	Changes     []Change      // in the order of their times
	Again       string        // the run that the drill replays; "" for none
	Kept        []KeptObject  // of that run, which are there when the drill begins
	Sets        []payload.Set // of its own: feeds number them after the project's
	Cold        *ColdStarts   // nil for a drill whose events come when they come
	Budgets     []Budget
	// Idempotence has replies to second deliveries compared with the first.
	Idempotence bool
	// BeginEmpty lets events fall due at once, before the instances that are kept warm
	// are ready.
	BeginEmpty bool
}

// KeptObject is an object whose bytes a run kept.
type KeptObject struct {
	Bucket, Key, ContentType string
	Blob                     int32 // by which the run has them
}

// Feed sends the payloads of a set to a source.
type Feed struct {
	Source   int
	Set      int // -1 for a schedule without payloads of its own
	Phases   []arrival.Phase
	Retained int      // stream: payloads of the set that were in the stream before the drill
	Clock    *Clock   // schedule: in place of phases
	Moments  []Moment // of a run that is replayed: in place of phases, in the order of their times
	Faults   fault.Rules
}

// Moment is an event of a run that is replayed.
type Moment struct {
	Due     time.Duration // since the run began
	Payload int           // within the set
	Round   int           // how often the set had been used up before
	Fate    fault.Fate
}

// Clock is a drill's own clock for a schedule.
type Clock struct {
	From  time.Time
	For   time.Duration // on that clock
	Speed float64       // how much faster than real time
}

// Budget is a figure with a bound that the run must keep. Package measure
// reads its text and judges it.
type Budget struct{ Text string }

// Span gives how long a feed of the project lasts; callers may take longer.
func (p *Project) Span(f *Feed) time.Duration {
	if f.Clock != nil {
		return time.Duration(float64(f.Clock.For) / f.Clock.Speed)
	}
	if n := len(f.Moments); n > 0 {
		return f.Moments[n-1].Due
	}
	times, _, _ := p.Sets[f.Set].Offsets()
	return arrival.Span(f.Phases, times)
}

// FeedName says what a feed sends.
func (p *Project) FeedName(f *Feed) string {
	if f.Set < 0 {
		return "its times from " + f.Clock.From.Format("2006-01-02 15:04") + " on"
	}
	return p.Sets[f.Set].Name
}

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

// SetNamed gives the index of a payload set, or -1.
func (p *Project) SetNamed(name string) int {
	return slices.IndexFunc(p.Sets, func(s payload.Set) bool { return s.Name == name })
}

// With gives the project with the payload sets of a drill's own.
func (p *Project) With(d *Drill) *Project {
	if d.Sets == nil {
		return p
	}
	with := *p
	with.Sets = slices.Concat(p.Sets, d.Sets)
	return &with
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
// for HTTP the first wire whose conditions hold, for others all of those.
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
	takes := uint64(0)
	for i := range src.Wires {
		if pl.Event != nil && src.Wires[i].When.MatchesEvent(pl.Event) {
			takes |= 1 << i
		}
	}
	return takes
}
