// Package plan is a resolved project: everything the engine and the driver need to know, with names
// turned into indices, defaults filled in and limits checked. It knows no file format; package
// project makes it from one.
package plan

import (
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/fault"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/route"
	"nightdrill.dev/internal/core/schedule"
	"nightdrill.dev/internal/core/template"
)

// Project is a project that is ready to be run.
type Project struct {
	Name         string
	Dir          string // absolute; commands and recordings are relative to it
	Concurrency  int    // invocations in flight and instances being started, all functions together
	MQTT         bool   // events can be published over MQTT, too
	Brokers      []Broker
	Services     []Service
	Upstreams    []Upstream
	Functions    []Function
	Sources      []Source
	Sets         []payload.Set
	Drills       []Drill
	MemoryPerCPU int64  // bytes that come with one processor, for functions whose CPU follows memory; 0 if not set
	Rates        *Rates // what the user pays; nil if not set
	Keep         Keeping
	Share        *Share // where a team keeps its runs; nil for nowhere
	Steps        int    // most steps of a chain: replies beyond them are not sent on
}

// Function is the user's code behind one name.
type Function struct {
	Name         string
	Transport    Transport
	Address      string   // attach: host and port
	Start        []string // the command; {port} stands for the port to listen on, {instance} for a unique name
	Handler      *Handler // of the transport Loaded; nil for others
	Stop         []string // a command that stops an instance whose process is elsewhere; nil for none
	Build        []string // a command before the first start and after a change; nil for none
	Prepare      []string // a command once for each version of the code; nil for none
	Watch        []string // patterns of files below the project's folder that make a version of the code
	ReachAt      string   // the name or address by which its network reaches this machine; "" for 127.0.0.1
	Target       Target   // where it is to run; the zero value where that is not given
	Package      []string // patterns of the files that are deployed, below the project's folder; nil for those of Watch
	Needs        []int    // indices of services that must be ready first
	Upstreams    []int    // indices of the upstreams whose addresses it gets
	Spans        bool     // it is asked to send spans
	Dir          string   // absolute
	Env          []string // NAME=value, sorted
	Ready        Ready
	Path         string // where events that are not HTTP requests are POSTed
	Deliver      Deliver
	Shape        *template.Shape // of DeliverShaped
	Timeout      time.Duration   // of one invocation
	StartTimeout time.Duration
	Limits       Limits
	Replace      Replacement // how a new version replaces an old one
	Socket       bool        // it listens on a Unix socket, {socket}, and not on a port
	Fresh        bool        // a connection of its own for each request
	Parked       int         // processes that are started ahead and stopped in memory until they are needed
	Memory       int64       // bytes that an instance may use; 0 for no bound
	CPU          float64     // processors that an instance may use; 0 for no bound
	ByMemory     bool        // CPU follows Memory
	Dropped      bool        // drill of cold starts: its files are dropped from the page cache before each
	Then         []Then
	Variants     []Function // the same with some settings changed, named function@variant; they have none themselves
}

// Transport is the way in which a function is reached.
type Transport uint8

const (
	HTTPTransport Transport = iota // a process of ours that serves HTTP
	Attach                         // a process that was started elsewhere
	// a process of ours that reads one event a line from standard input, and writes one reply a line
	Lines
	OneShot // a process for each invocation, by CGI (RFC 3875)
	Loaded  // a process of ours in which a loader calls the user's handler
)

func (t Transport) String() string { return Transports[t] }

// Transports holds the names of the transports, by their numbers.
var Transports = []string{"http", "attach", "lines", "oneshot", "handler"}

// VariantNames returns the names of the function's variants, without its own.
func (f *Function) VariantNames() (out []string) {
	for i := range f.Variants {
		out = append(out, strings.TrimPrefix(f.Variants[i].Name, f.Name+"@"))
	}
	return out
}

// Language is the language of a handler.
type Language uint8

const (
	NoLanguage Language = iota
	Python
	Node
	Go
	Java
	OtherLanguage // with a loader of the user's
)

func (l Language) String() string {
	return [...]string{"", "Python", "Node", "Go", "Java", "another language"}[l]
}

// Takes is the form in which a handler gets its events.
type Takes uint8

const (
	TakesEvent   Takes = iota // attributes and data; of HTTP, the parts of the request
	TakesData                 // the data alone; of HTTP, the body
	TakesRequest              // the language's own form of a request; http sources only
	TakesShaped               // what the function's template makes of the event
)

// TakesTraced is appended to the name of what a handler takes where its loader passes the trace context on.
const TakesTraced = "+trace"

// TakesWords holds the names of the forms, by their numbers.
var TakesWords = []string{"event", "data", "request", "shaped"}

func (t Takes) String() string { return TakesWords[t] }

// Handler is a callable of the user's that a loader runs.
type Handler struct {
	File     string // as the project names it, from the function's folder
	Name     string // of the callable in it
	Language Language
	Takes    Takes
	Reply    *ReplyShape // nil where what is returned is the body of a 200
	// PassTrace has the loader pass the trace context of an invocation on to what the handler calls over HTTP.
	PassTrace bool
}

// Built reports whether the handler is compiled together with its loader; a function without a handler has none.
func (h *Handler) Built() bool { return h != nil && h.Language == Go }

// Target is where a function is to run.
type Target struct {
	OS, Arch string // as Go names them, such as linux and arm64
	Java     int    // the version of Java there; 0 where that is not given
}

// Names of systems and processors in targets.
var (
	TargetSystems = []string{"linux", "darwin", "windows"}
	TargetArchs   = []string{"amd64", "arm64", "386", "arm", "riscv64", "ppc64le", "s390x"}
)

// ReplyShape has the places of the parts of an HTTP reply in what a handler returns: JSON Pointers (RFC 6901),
// "" for none.
type ReplyShape struct{ Status, Headers, Body, Base64 string }

// LoaderArgument stands for the file of the loader in the command of a handler.
const LoaderArgument = "{loader}"

// Replacement is the way in which a new version of a function's code replaces the one before.
type Replacement uint8

const (
	OneByOne Replacement = iota // each old instance stops when a new one is ready in its place
	AtOnce                      // all old instances are drained at once, and as many new ones started
	// as many new ones are started beside the old, which stop together once all of those are ready
	SideBySide
)

func (r Replacement) String() string { return Replacements[r] }

// Replacements holds the names of the ways of replacement, by their numbers.
var Replacements = []string{"one_by_one", "at_once", "side_by_side"}

// Service is something that functions need beside them: a database, a broker.
type Service struct {
	Name         string
	Start        []string
	Stop         []string // nil for SIGTERM
	Reset        []string // between runs; nil for nothing
	Seed         []string // fills it with what each drill begins with; nil for nothing
	Data         bool     // {data} in its commands, and DATA, stand for a folder that is kept once it was seeded
	Port         bool     // {port} in its commands, and PORT, stand for a free port; ready is then at that port
	Dir          string
	Env          []string
	Ready        Ready // with ReadyTCP and ReadyHTTP the address is in Path; ReadyExit is the command's end
	StartTimeout time.Duration
}

// Limits are the settings of a function that a drill or a user may change
// while it runs.
type Limits struct {
	Max         int // invocations in flight, and instances being started for a waiting one
	Guaranteed  int // share of the project's limit that is guaranteed to this function
	PerInstance int // invocations in flight on one instance
	KeepWarm    int // instances that are kept even when idle
	IdleAfter   time.Duration
	StartEvery  time.Duration // time between two added instances; 0 for no bound
	StartBurst  int           // instances that may be added before that bound applies
	TurnAway    bool          // nothing is dispatched: HTTP is rejected, other kinds wait; instances stay
}

// Instances returns the most instances that the limits allow.
func (l Limits) Instances() int {
	if l.PerInstance < 1 {
		return l.Max
	}
	return (l.Max + l.PerInstance - 1) / l.PerInstance
}

// Readiness is the way in which it is noticed that an instance is ready.
type Readiness uint8

const (
	ReadyTCP  Readiness = iota // the port is listened on
	ReadyHTTP                  // Path answers 2xx
	ReadyLine                  // a line of the output matches Line
	ReadyExit                  // the command ends with code 0; services only
	ReadyRuns                  // the command runs; services only
)

// Ready is a function's readiness condition.
type Ready struct {
	By   Readiness
	Path string
	Line string // a regular expression (RE2)
}

// Deliver is the form in which an event is sent to a function.
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

// Kinds holds the names of the kinds of sources, by their numbers.
var Kinds = []string{"http", "queue", "storage", "stream", "schedule"}

func (k Kind) String() string { return Kinds[k] }

// OnFailure is what happens to a stream's batch whose attempts are used up.
type OnFailure uint8

const (
	Skip  OnFailure = iota // all of it is dead-lettered or failed
	Split                  // it is halved until the bad record is alone
)

// WhileRunning is what happens to a scheduled run that falls due while the function is still busy
// with an earlier one.
type WhileRunning uint8

const (
	Drop     WhileRunning = iota // it is skipped
	Wait                         // it starts when the earlier one has ended
	Parallel                     // it runs beside the earlier one
)

// Source is where events come from.
type Source struct {
	Name  string
	Kind  Kind
	Wires []Wire        // at most 64
	Wait  time.Duration // http: how long a request may wait for capacity before it is rejected

	BatchMax   int           // queue, stream: messages or records of one invocation
	BatchWait  time.Duration // queue, stream: how long a batch may wait to be filled
	Lease      time.Duration // queue: how long a message is hidden from others once dispatched
	LeaseMost  time.Duration // queue: up to where the lease is extended while the function works; 0 for not at all
	Attempts   int           // all but http: attempts before an event is dead-lettered or failed
	Backoff    time.Duration // all but http: pause before the second attempt, doubling up to 5 s
	MaxAge     time.Duration // queue: from arrival; 0 for no bound
	Delay      time.Duration // queue: from arrival until a message is visible
	DeadLetter int           // all but http: index of the dead-letter queue, or -1
	// queue: of the group whose messages stay in order, "" for none; stream: of the partition. A JSON
	// Pointer, or the name of an attribute
	Key string

	Partitions int       // stream
	OnFailure  OnFailure // stream
	FromNew    bool      // stream: records that were there before are not read

	Poll   time.Duration // storage: changes are found at multiples of it; 0 when they are notified immediately
	Bucket string        // storage
	// storage: absolute path of the folder whose files are the bucket's objects; "" for the built-in object store
	Folder string

	Times        []schedule.Spec // schedule
	WhileRunning WhileRunning    // schedule
	CatchUp      bool            // schedule: runs that were missed while the program slept are made up for, once

	CORS *CORS // http: nil for none
	// Copied and Taken are where the source gets messages from, which it copies or takes; nil for nowhere.
	Copied *BrokerPlace `json:"copied,omitempty"`
	Taken  *BrokerPlace `json:"taken,omitempty"`
	Token  string       `json:"-"` // http: the required bearer token; "" for none. It is not written to journals
}

// CORS defines which browsers' pages may send requests (Fetch Standard §3.2).
type CORS struct {
	Origins     []string // "*" for all
	Headers     []string // that a request may have beyond the safelisted ones
	Expose      []string // headers of replies that a page may read
	Credentials bool
	MaxAge      time.Duration // how long a browser may remember
}

// Wire connects a source to a function.
type Wire struct {
	To    int        // index of the function
	When  route.When // which events it takes
	Share int        // of what it takes, in percent, where it is a part of a wire that divides that; 0 otherwise
}

// Then sends a function's reply on as an event of another source.
type Then struct {
	To      int // index of the source
	Status  []StatusRange
	Header  []event.Field   // of the reply; a value of "*" requires it to be present
	Values  []payload.Value // of the reply's body, at JSON Pointers
	Shape   *template.Shape // what the reply is made into; nil for the reply as it is
	Type    string          // of the event
	Method  string          // http: of the request
	Path    string          // http: its target
	Objects *template.Shape // storage: produces the object's key
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
	Concurrency int           // the project total
	Changes     []Change      // in the order of their times
	Marks       []Mark        // in the order of their times
	Again       string        // the run that the drill replays; "" for none
	Kept        []KeptObject  // objects of that run, which are there when the drill begins
	Sets        []payload.Set // of its own: feeds number them after the project's
	Cold        *ColdStarts   // nil for a drill that is not one of cold starts
	Upstreams   []Upstream    // the project's with the drill's own settings; nil where it has none
	Budgets     []Budget
	// Idempotence compares replies to second deliveries with the first.
	Idempotence bool
	// BeginEmpty lets events fall due at once, before the instances of keep_warm are ready.
	BeginEmpty bool
	// Calm is how many warm invocations of each function are made before the drill, one at a time; 0 for none.
	Calm int
}

// Mark names a moment of a drill, counted from when its events begin to fall due.
type Mark struct {
	At   time.Duration `json:"at"`
	Text string        `json:"text"`
}

// KeptObject is an object whose bytes a run kept.
type KeptObject struct {
	Bucket, Key, ContentType string
	Blob                     int32 // its number in the run's store
}

// Feed sends the payloads of a set to a source.
type Feed struct {
	Source   int
	Set      int // -1 for a schedule without payloads of its own
	Phases   []arrival.Phase
	Retained int      // stream: payloads of the set that were in the stream before the drill
	Clock    *Clock   // schedule: in place of phases
	Moments  []Moment // replay of a run: in place of phases, in the order of their times
	// Live is for how long events come from the broker of the source, in place of phases; 0 for not at all.
	Live   time.Duration
	Faults fault.Rules
}

// Moment is an event of a run that is replayed.
type Moment struct {
	Due     time.Duration // since the run began
	Payload int           // within the set
	Round   int           // how many times the set had been used up before
	Fate    fault.Fate
}

// Clock is a drill's own clock for a schedule.
type Clock struct {
	From  time.Time
	For   time.Duration // on that clock
	Speed float64       // how much faster than real time
}

// Budget is a figure with a bound that the run must keep. Package measure parses its text and
// evaluates it.
type Budget struct{ Text string }

// Span returns how long a feed of the project lasts; callers may take longer.
func (p *Project) Span(f *Feed) time.Duration {
	if f.Live > 0 {
		return f.Live
	}
	if f.Clock != nil {
		return time.Duration(float64(f.Clock.For) / f.Clock.Speed)
	}
	if n := len(f.Moments); n > 0 {
		return f.Moments[n-1].Due
	}
	times, _, _ := p.Sets[f.Set].Offsets()
	return arrival.Span(f.Phases, times)
}

// FeedName returns the name of what a feed sends.
func (p *Project) FeedName(f *Feed) string {
	if f.Live > 0 {
		return "messages of " + p.Sources[f.Source].Fed().Broker
	}
	if f.Set < 0 {
		return "scheduled times of " + f.Clock.From.Format("2006-01-02 15:04") + " on"
	}
	return p.Sets[f.Set].Name
}

// FunctionNamed returns the index of a function, or -1.
func (p *Project) FunctionNamed(name string) int {
	for i := range p.Functions {
		if p.Functions[i].Name == name {
			return i
		}
	}
	return -1
}

// SourceNamed returns the index of a source, or -1.
func (p *Project) SourceNamed(name string) int {
	for i := range p.Sources {
		if p.Sources[i].Name == name {
			return i
		}
	}
	return -1
}

// SetNamed returns the index of a payload set, or -1.
func (p *Project) SetNamed(name string) int {
	return slices.IndexFunc(p.Sets, func(s payload.Set) bool { return s.Name == name })
}

// With returns the project with the drill's own payload sets added.
func (p *Project) With(d *Drill) *Project {
	if d.Sets == nil {
		return p
	}
	with := *p
	with.Sets = slices.Concat(p.Sets, d.Sets)
	return &with
}

// DrillNamed returns a drill, or nil.
func (p *Project) DrillNamed(name string) *Drill {
	for i := range p.Drills {
		if p.Drills[i].Name == name {
			return &p.Drills[i]
		}
	}
	return nil
}

// Routes returns the wires of source s that take a payload, as a bit set: for HTTP the first wire
// whose conditions hold, for other kinds all of those.
func (p *Project) Routes(s int, pl *payload.Payload) uint64 {
	src := &p.Sources[s]
	if src.Kind == HTTP {
		for i := range src.Wires {
			if pl.Request == nil || !src.Wires[i].When.Matches(pl.Request) {
				continue
			}
			if src.Wires[i].Share == 0 {
				return 1 << i
			}
			return 1<<src.parts(i) - 1<<i // all parts of the wire
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
