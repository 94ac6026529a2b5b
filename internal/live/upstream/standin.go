// Package upstream stands in for the services that functions call. [Open] prepares the stand-ins of a run, and
// [Set.Gate] opens an entrance to each of them for one process: its port tells whose calls come there. What is
// answered is decided by core/upstream.
package upstream

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/upstream"
)

// Of is whose call it is.
type Of struct {
	Invocation uint64 // 0 where it is not known, or there is none
	Among      int32  // invocations that it may be of, where it is not known which
	Event      string // a name of the event, the same in each run of a drill; "" if unknown
	Starting   bool   // the process is not ready yet
	Sink       any    // of the caller's own
}

// Caller is the process that calls. Its methods are safe for several goroutines.
type Caller interface {
	// Calling returns whose call it is that begins now, with a trace context (W3C Trace Context) or "".
	Calling(traceparent string) Of
	// Called records a call that is over.
	Called(of Of, c Call)
}

// Call is a call that is over.
type Call struct {
	record.Call // without its times and its label
	Began       time.Time
	First       time.Time // zero without a reply
	Done        time.Time
	Waited      time.Duration
	Label       string // its request line, without secrets
	Why         string // what went wrong, in words; "" for nothing
}

// Options are what stand-ins are made from.
type Options struct {
	Upstreams []plan.Upstream // with their modes; URL is that of the service
	Seed      uint64
	// Recording returns what was recorded of an upstream.
	Recording func(u *plan.Upstream) ([]payload.Payload, error)
	Authority *Authority        // of the project, for upstreams that are called through a proxy; nil for none
	Key       []byte            // of the project, for stand-ins of secrets
	Append    bool              // what is recorded is added to the recordings that are there
	Hosts     []string          // names that requests may be addressed to, beside those of this machine
	Say       func(text string) // hears what is not about one call
}

// Set is the stand-ins of a run.
type Set struct {
	Options
	all    []*standIn
	server *http.Server
	trust  Trust
	mu     sync.Mutex
	said   map[string]bool
}

// standIn is the stand-in of one upstream.
type standIn struct {
	*plan.Upstream
	set       *Set
	number    int32
	target    *url.URL
	through   *httputil.ReverseProxy // nil where there is no service
	behaviour atomic.Pointer[plan.Behaviour]
	redactor  *payload.Redactor
	limit     limiter
	calls     atomic.Int64
	mu        sync.Mutex
	made      map[string]int // calls so far, by their events
	work      *work          // as it works now
}

// work is what a stand-in needs for its mode.
type work struct {
	mode      plan.Mode
	library   *upstream.Library // of Replay
	cursor    *upstream.Cursor  // of Replay; used with the stand-in's lock held
	recording *recording        // of Record
	using     sync.WaitGroup    // calls that are in progress
}

// Open prepares the stand-ins. Those that record begin a new recording, which takes the place of the old one when the
// set is closed.
func Open(o Options) (*Set, error) {
	s := &Set{Options: o, said: map[string]bool{}}
	if o.Authority != nil {
		var err error
		if s.trust, err = o.Authority.Trust(); err != nil {
			return nil, err
		}
	}
	for i := range o.Upstreams {
		x, err := s.open(i)
		if err != nil {
			s.Close()
			return nil, fmt.Errorf("upstreams.%s: %w", o.Upstreams[i].Name, err)
		}
		s.all = append(s.all, x)
	}
	s.server = &http.Server{Handler: http.HandlerFunc(serve), ReadHeaderTimeout: 30 * time.Second,
		MaxHeaderBytes: 1 << 20, ConnContext: withConn, ErrorLog: unheard}
	return s, nil
}

func (s *Set) open(i int) (*standIn, error) {
	u := &s.Upstreams[i]
	x := &standIn{Upstream: u, set: s, number: int32(i), made: map[string]int{},
		redactor: &payload.Redactor{Key: s.Key, Set: u.Name, Pointers: u.Redact}}
	x.redactor.Prepare()
	b := u.Behaviour
	x.behaviour.Store(&b)
	x.limit.set(b.Concurrency)
	var err error
	if u.URL != "" {
		if x.target, err = url.Parse(u.URL); err != nil {
			return nil, err
		}
		x.through = x.proxy()
	}
	x.work, err = x.begin(u.Mode)
	return x, err
}

// begin prepares a mode.
func (x *standIn) begin(mode plan.Mode) (w *work, err error) {
	w = &work{mode: mode}
	switch mode {
	case plan.Replay:
		recorded, err := x.set.Recording(x.Upstream)
		if errors.Is(err, os.ErrNotExist) {
			return nil, fmt.Errorf("nothing was recorded yet; record it with --upstream %s=record, or pass calls on "+
				"with --upstream %s=pass", x.Name, x.Name)
		} else if err != nil {
			return nil, err
		}
		w.library = upstream.NewLibrary(recorded, x.Ignore, x.redact)
		w.cursor = upstream.NewCursor(w.library)
	case plan.Record:
		if w.recording, err = begin(x.Recording, x.redactor, x.set.Append); err != nil {
			return nil, err
		}
		w.recording.Base = "http://" + x.Name // of a service of the project, whose port is another each time
		if x.target != nil && x.Service < 0 {
			w.recording.Base = x.target.Scheme + "://" + x.target.Host
		}
	}
	return w, err
}

// end ends a mode once the calls that are in progress are over.
func (w *work) end(whole bool) error {
	if w == nil || w.recording == nil {
		return nil
	}
	w.using.Wait()
	return w.recording.end(whole)
}

// SetMode changes what a stand-in does with the calls that come from now on. The error names what could not be kept of
// what was recorded so far, or why the mode cannot be.
func (s *Set) SetMode(i int, mode plan.Mode) error {
	x := s.all[i]
	x.mu.Lock()
	was := x.work
	x.mu.Unlock()
	if was.mode == mode {
		return nil
	}
	if was.recording != nil { // first: what was recorded just now can be replayed
		x.mu.Lock()
		x.work = &work{mode: plan.Pass}
		x.mu.Unlock()
		if err := was.end(true); err != nil {
			return err
		}
	}
	w, err := x.begin(mode)
	if err != nil {
		return err
	}
	x.mu.Lock()
	x.work = w
	x.mu.Unlock()
	return nil
}

// StopRecording has those that record pass calls on instead. It may be called on nil.
func (s *Set) StopRecording() (err error) {
	if s == nil {
		return nil
	}
	for i := range s.all {
		if s.Mode(i) == plan.Record {
			err = errors.Join(err, s.SetMode(i, plan.Pass))
		}
	}
	return err
}

// Mode returns what a stand-in does with calls now.
func (s *Set) Mode(i int) plan.Mode {
	x := s.all[i]
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.work.mode
}

// take returns what a call that begins now is worked on with, which is released by using.Done.
func (x *standIn) take() *work {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.work.using.Add(1)
	return x.work
}

// Recorded returns how many replies the recordings of the upstreams hold, by their places.
func (s *Set) Recorded() []int {
	out := make([]int, len(s.all))
	for i, x := range s.all {
		if x.work.library != nil {
			out[i] = x.work.library.Len()
		}
	}
	return out
}

// SetBehaviour changes how a stand-in behaves from now on.
func (s *Set) SetBehaviour(i int, b plan.Behaviour) {
	x := s.all[i]
	x.behaviour.Store(&b)
	x.limit.set(b.Concurrency)
}

// Behaviour returns how a stand-in behaves now.
func (s *Set) Behaviour(i int) plan.Behaviour { return *s.all[i].behaviour.Load() }

// Calls returns how many calls came to an upstream so far.
func (s *Set) Calls(i int) int64 { return s.all[i].calls.Load() }

// Close ends the stand-ins. What was recorded takes the place of the recordings before; the error names what could
// not be kept. It may be called on nil.
func (s *Set) Close() (err error) { return s.End(true) }

// End is Close; what was recorded of a run that is not whole takes the place of no recording that is there. It is put
// beside it.
func (s *Set) End(whole bool) (err error) {
	if s == nil {
		return nil
	}
	if s.server != nil {
		_ = s.server.Close()
	}
	for _, x := range s.all {
		if x.through != nil {
			x.through.Transport.(*http.Transport).CloseIdleConnections()
		}
		if e := x.work.end(whole); e != nil {
			err = errors.Join(err, fmt.Errorf("upstreams.%s: %w", x.Name, e))
		}
		x.work = &work{mode: plan.Pass}
	}
	return err
}

// say reports something once.
func (s *Set) say(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	s.mu.Lock()
	known := s.said[text]
	s.said[text] = true
	s.mu.Unlock()
	if !known && s.Say != nil {
		s.Say(text)
	}
}

// Gate is the entrances of one process to stand-ins.
type Gate struct {
	set       *Set
	caller    Caller
	addresses map[int]string // of upstreams: host and port
	proxy     string         // host and port of the proxy; "" for none
	listeners []net.Listener
	mu        sync.Mutex
	conns     map[net.Conn]bool
	closed    bool
	serving   sync.WaitGroup
}

// Gate opens the entrances of a process to some of the stand-ins, at a host of this machine; 127.0.0.1 for "".
func (s *Set) Gate(caller Caller, which []int, host string) (*Gate, error) {
	g := &Gate{set: s, caller: caller, conns: map[net.Conn]bool{}, addresses: map[int]string{}}
	if host == "" {
		host = "127.0.0.1"
	}
	for _, i := range which {
		l, err := net.Listen("tcp", net.JoinHostPort(host, "0"))
		if err != nil {
			g.Close()
			return nil, fmt.Errorf("no address for the upstream %s: %w", s.all[i].Name, err)
		}
		g.listeners = append(g.listeners, l)
		g.addresses[i] = l.Addr().String()
		go func() { _ = s.server.Serve(&entrance{l, g, s.all[i]}) }() // it ends with the listener
	}
	if err := g.openProxy(host, which); err != nil {
		g.Close()
		return nil, fmt.Errorf("no address for the proxy: %w", err)
	}
	return g, nil
}

// URL returns the address of an upstream for the gate's process: that of the stand-in, with the path of the service.
func (g *Gate) URL(i int) string {
	out := "http://" + g.addresses[i]
	if t := g.set.all[i].target; t != nil {
		out += strings.TrimSuffix(t.EscapedPath(), "/")
	}
	return out
}

// Close ends the entrances and the calls that are in progress, and returns when these are recorded. It may be called
// on nil.
func (g *Gate) Close() {
	if g == nil {
		return
	}
	for _, l := range g.listeners {
		_ = l.Close()
	}
	g.mu.Lock()
	g.closed = true
	all := make([]net.Conn, 0, len(g.conns))
	for c := range g.conns {
		all = append(all, c)
	}
	g.mu.Unlock()
	for _, c := range all {
		_ = c.Close()
	}
	g.serving.Wait()
}

// entrance is a listener that knows whose it is.
type entrance struct {
	net.Listener
	gate *Gate
	at   *standIn // nil of the proxy
}

// Accept implements net.Listener.
func (e *entrance) Accept() (net.Conn, error) {
	c, err := e.Listener.Accept()
	if err != nil {
		return nil, err
	}
	x := &conn{Conn: c, gate: e.gate, at: e.at}
	e.gate.mu.Lock()
	defer e.gate.mu.Unlock()
	if e.gate.closed {
		_ = c.Close()
	}
	e.gate.conns[x] = true
	return x, nil
}

// conn is a connection that knows whose it is.
type conn struct {
	net.Conn
	gate    *Gate
	at      *standIn // nil of the proxy
	proxied bool     // it came through the proxy
}

// Close implements net.Conn.
func (c *conn) Close() error {
	c.gate.mu.Lock()
	delete(c.gate.conns, c)
	c.gate.mu.Unlock()
	return c.Conn.Close()
}

type connKey struct{}

func withConn(ctx context.Context, c net.Conn) context.Context {
	return context.WithValue(ctx, connKey{}, c)
}

// limiter bounds how many calls are in progress at a time; those that wait come in their order.
type limiter struct {
	mu      sync.Mutex
	most    int // 0 for no bound
	in      int
	waiting []chan struct{}
}

func (l *limiter) set(most int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.most = most
	l.admit()
}

// admit lets those in for whom there is room; the lock is held.
func (l *limiter) admit() {
	for len(l.waiting) > 0 && (l.most == 0 || l.in < l.most) {
		close(l.waiting[0])
		l.waiting = l.waiting[1:]
		l.in++
	}
}

// enter waits until there is room, or the context ends: then it returns false.
func (l *limiter) enter(ctx context.Context) bool {
	l.mu.Lock()
	if l.most == 0 || l.in < l.most && len(l.waiting) == 0 {
		l.in++
		l.mu.Unlock()
		return true
	}
	turn := make(chan struct{})
	l.waiting = append(l.waiting, turn)
	l.mu.Unlock()
	select {
	case <-turn:
		return true
	case <-ctx.Done():
		l.mu.Lock()
		defer l.mu.Unlock()
		if i := slices.Index(l.waiting, turn); i >= 0 {
			l.waiting = slices.Delete(l.waiting, i, i+1)
			return false
		}
		l.in-- // it was let in just now
		l.admit()
		return false
	}
}

func (l *limiter) leave() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.in--
	l.admit()
}
