package session

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/runner"
	"nightdrill.dev/internal/live/transport"
	"nightdrill.dev/internal/session/build"
	"nightdrill.dev/internal/session/catalog"
)

// Origin is where a firing comes from.
type Origin uint8

const (
	ByHand Origin = iota
	AfterChange
	AtFront
	Published // by a function, or by another program
	InStorage
	ByClock
)

func (o Origin) String() string {
	return [...]string{"by hand", "after a change", "at the front", "published", "in storage", "by the clock"}[o]
}

// Order is a request to fire an event.
type Order struct {
	Item    *catalog.Item
	Variant string // such as node; "" for the function itself
	Cold    bool   // running instances are stopped first
	Async   bool   // the reply is not waited for (RFC 7240 respond-async)
	Origin  Origin
	by      *publisher // who published it; nil where that is not known
}

// Firing is one event that was fired.
type Firing struct {
	Order
	N     int // from 1
	At    time.Time
	stop  context.CancelFunc
	done  chan struct{}
	whole chan struct{} // closed when what was made of it is over too
	again bool          // it was offered again
	fate  *fate
	// guarded by the session
	doing   string
	sent    *payload.Payload
	trace   *runner.Trace
	driver  *runner.Follower
	refused *build.Failure
	trimmed bool
	cut     bool // only the beginning of what was sent is kept
}

// Done is closed when it is over.
func (f *Firing) Done() <-chan struct{} { return f.done }

const (
	// keptFirings is how many firings are kept.
	keptFirings = 500
	// keptOfFirings is how many bytes of requests and replies of firings are kept whole.
	keptOfFirings = 256 << 20
	// keptOfEach is what is kept of each beyond that.
	keptOfEach = 64 << 10
)

// slowAfter is how long a firing may take before it is shown as in progress.
const slowAfter = 25 * time.Millisecond

// Fire sends an event. It returns at once; Look returns what happens to it.
func (s *Session) Fire(o Order) *Firing {
	ctx, stop := context.WithCancel(s.life)
	f := &Firing{Order: o, At: time.Now(), stop: stop, done: make(chan struct{}), whole: make(chan struct{}),
		fate: &fate{}}
	s.mu.Lock()
	s.numbers++
	f.N = s.numbers
	values := payload.Values{Now: f.At, Seed: 1, UUID: uuid.NewString}
	if o.Item.File != "" { // only saved payloads have actions
		s.counts[o.Item.Key()]++
		values.Counter = s.counts[o.Item.Key()]
	}
	s.firings = append(s.firings, f)
	if len(s.firings) > keptFirings {
		for _, old := range s.firings[:len(s.firings)-keptFirings] {
			s.let(old)
		}
		s.firings = slices.Delete(s.firings, 0, len(s.firings)-keptFirings)
	}
	if o.Origin == ByHand {
		kept := o
		kept.Cold = false
		s.last = &kept
	}
	s.mu.Unlock()
	go func() {
		over := s.carryOut(ctx, f, values)
		o.by.came()
		go s.follow(ctx, f, over) // on a small stack of its own, since many events may wait for long
	}()
	return f
}

// follow waits for the end of a firing, and of what comes of it; over is closed when there is no more to wait for, and
// nil where it was refused.
func (s *Session) follow(ctx context.Context, f *Firing, over <-chan struct{}) {
	if over != nil {
		// one that is over soon is reported once, when it is
		slow := time.AfterFunc(slowAfter, s.changed)
		select {
		case <-f.trace.Done():
		case <-over:
		case <-ctx.Done():
		}
		slow.Stop()
		s.trim()
	}
	close(f.done)
	if over != nil && s.goesOn(f) {
		s.changed()
		select {
		case <-f.trace.Whole():
		case <-over:
		case <-ctx.Done():
		}
	}
	f.stop()
	s.mu.Lock()
	s.ended(f)
	s.mu.Unlock()
	close(f.whole)
	s.changed()
}

// goesOn reports whether events came of a firing, or will.
func (s *Session) goesOn(f *Firing) bool {
	t := s.Look(f).Trace
	return len(t.Made) > 0 || t.Coming > 0
}

// Stop stops waiting for a firing that is not over.
func (f *Firing) Stop() { f.stop() }

// carryOut sends a firing's event, and returns what is closed when there is no more to wait for; nil where the event
// was refused.
func (s *Session) carryOut(ctx context.Context, f *Firing, values payload.Values) (over <-chan struct{}) {
	refuse := func(why *build.Failure) {
		s.mu.Lock()
		defer s.mu.Unlock()
		f.refused, f.doing = why, ""
	}
	doing := func(what string) {
		s.mu.Lock()
		f.doing = what
		s.mu.Unlock()
		s.changed()
	}
	p, err := f.Item.Fill(values)
	if err != nil {
		refuse(&build.Failure{Text: fmt.Sprintf("%s is not sent: %v", f.Item.Title(), err)})
		return nil
	}
	if f.Async && p.Request != nil {
		r := *p.Request
		r.Header = append(slices.Clone(r.Header), event.Field{Name: "Prefer", Value: "respond-async"})
		p = &payload.Payload{Request: &r, Time: p.Time}
	}
	if p, err = s.bring(f, p); err != nil {
		refuse(&build.Failure{Text: fmt.Sprintf("%s is not sent: %v", f.Item.Title(), err)})
		return nil
	}
	s.mu.Lock()
	f.sent = p
	shot, fns, why := s.aim(f, p)
	works, paused := s.works, s.paused
	s.mu.Unlock()
	if paused != "" {
		why = &build.Failure{Text: "not fired: " + paused, Held: true}
	}
	if why != nil {
		refuse(why)
		return nil
	}
	for _, fn := range fns {
		works.Codes[fn].Glance()
	}
	failure := works.Prepare(ctx, fns, doing)
	if failure == nil {
		failure = s.await(ctx, works, fns, doing)
	}
	if failure != nil {
		refuse(failure)
		return nil
	}
	s.mu.Lock()
	driver, warm := s.driver, s.Whole.Warm
	s.mu.Unlock()
	for _, fn := range fns {
		if fn < len(warm) && warm[fn] > 0 && !f.Cold {
			doing("starting the instances of keep_warm")
			driver.KeepWarm(ctx, fn, warm[fn])
		}
	}
	s.mu.Lock()
	driver = s.driver
	for _, fn := range fns { // a version that was just made for the first time
		if driver.Version(fn) == "" && s.works == works {
			driver.Name(fn, s.labelOf(works.Codes[fn]))
		}
	}
	f.doing, f.driver = "", driver
	if f.Origin == Published {
		f.trace = driver.Publish(shot, f.by.of(driver))
	} else {
		f.trace = driver.Fire(shot)
	}
	s.arrived(f)
	over = s.over
	s.mu.Unlock()
	return over
}

// aim returns what the runner is to do; the lock is held.
func (s *Session) aim(f *Firing, p *payload.Payload) (shot runner.Event, fns []int, why *build.Failure) {
	source := f.Item.Source
	if source >= len(s.Whole.Sources) || s.Whole.Sources[source].Name != f.Item.SourceName {
		return shot, nil, &build.Failure{Text: "the source " + f.Item.SourceName + " no longer exists"}
	}
	shot = runner.Event{Source: source, Payload: p, Routes: s.Whole.Routes(source, p), Cold: f.Cold}
	if f.Item.Set != "" {
		shot.Name = runner.PayloadName(f.Item.Set, f.Item.N, 0)
	}
	for w, wire := range s.Whole.Sources[source].Wires {
		if shot.Routes&(1<<w) == 0 {
			continue
		}
		to := wire.To
		if f.Variant != "" {
			if v := s.Whole.FunctionNamed(s.Whole.Functions[to].Name + "@" + f.Variant); v >= 0 {
				if way, ok := s.Whole.Way(source, v); ok {
					shot.Source, to = way, v
				}
			}
		}
		if !slices.Contains(fns, to) {
			fns = append(fns, to)
		}
	}
	if f.Variant != "" && shot.Source == source && shot.Routes != 0 {
		return shot, nil, &build.Failure{Text: fmt.Sprintf("no function that %s leads to has a variant %q",
			f.Item.SourceName,
			f.Variant)}
	}
	return shot, s.onward(fns), nil
}

// onward adds the functions that replies of the given ones are sent on to, and so on.
func (s *Session) onward(fns []int) []int {
	for i := 0; i < len(fns); i++ {
		for _, t := range s.Whole.Functions[fns[i]].Then {
			for _, w := range s.Whole.Sources[t.To].Wires {
				if !slices.Contains(fns, w.To) {
					fns = append(fns, w.To)
				}
			}
		}
	}
	return fns
}

// await waits until functions whose code changed have instances of the new one, where they have
// any: what is fired now gets its reply from the changed code. An older one that is still busy takes nothing more.
func (s *Session) await(ctx context.Context, w *build.Builder, fns []int, doing func(string)) *build.Failure {
	tick := time.NewTicker(2 * time.Millisecond)
	defer tick.Stop()
	for _, fn := range fns {
		for said := false; ; {
			s.mu.Lock()
			if s.works != w {
				s.mu.Unlock()
				return nil
			}
			look, trouble := s.driver.Stats()[fn], s.driver.Trouble(fn)
			name := s.Whole.Functions[fn].Name
			s.mu.Unlock()
			if look.Serving == 0 {
				break
			}
			if trouble.Text != "" && !trouble.Started {
				return &build.Failure{Text: name + " " + trouble.Text, Lines: trouble.Lines}
			}
			if !said {
				doing("waiting for the new version")
				said = true
			}
			select {
			case <-tick.C:
			case <-ctx.Done():
				return &build.Failure{Text: "interrupted while the new version was starting"}
			}
		}
	}
	return nil
}

// trim drops large requests and replies of long ago.
func (s *Session) trim() {
	s.mu.Lock()
	defer s.mu.Unlock()
	kept := 0
	for i, f := range slices.Backward(s.firings) {
		if f.trace == nil || f.trimmed || !f.fate.over {
			continue // it is still needed
		}
		kept += f.driver.Weight(f.trace)
		if kept > keptOfFirings {
			f.driver.Trim(f.trace, keptOfEach)
			short := *f // a copy: the firing may be on a screen
			short.sent, short.trimmed, short.Item = f.sent.Short(keptOfEach), true, f.Item.Short(keptOfEach)
			short.cut = len(f.sent.Data()) > keptOfEach
			s.firings[i] = &short
		}
	}
}

// Reply is what came back of an attempt.
type Reply = transport.Reply

// LogEntry is one line of the log, of a kind.
type LogEntry = logs.Entry

// Kinds of log entries that are not lines of a function.
const (
	LogStarted = logs.Started
	LogReady   = logs.Ready
	LogStopped = logs.Stopped
	LogNote    = logs.Note
)

// Shown is the state of a firing at a moment.
type Shown struct {
	*Firing
	Doing   string
	Sent    *payload.Payload
	Trace   *runner.Trace  // nil before it was handed in
	Refused *build.Failure // why it was not
	Over    bool
}

// Look returns the present state of a firing.
func (s *Session) Look(f *Firing) Shown {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.look(f)
}

func (s *Session) look(f *Firing) Shown {
	v := Shown{Firing: f, Doing: f.doing, Sent: f.sent, Refused: f.refused}
	if f.trace != nil {
		t := f.driver.Look(f.trace)
		v.Trace = &t
	}
	select {
	case <-f.done:
		v.Over = true
	default:
	}
	return v
}

// Recent returns the last n firings, oldest first.
func (s *Session) Recent(n int) (out []Shown) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range s.firings[max(0, len(s.firings)-n):] {
		out = append(out, s.look(f))
	}
	return out
}

// Last returns the last attempt, or nil.
func (v Shown) Last() *runner.Attempt {
	if v.Trace == nil || len(v.Trace.Attempts) == 0 {
		return nil
	}
	return v.Trace.Attempts[len(v.Trace.Attempts)-1]
}

// Outcome returns the outcome of its deliveries: the worst of them.
func (v Shown) Outcome() engine.Outcome {
	worst := engine.Done
	if v.Trace == nil {
		return engine.Abandoned
	}
	for _, d := range v.Trace.Ended {
		if d.Outcome != engine.Done {
			worst = d.Outcome
		}
	}
	if len(v.Trace.Ended) == 0 {
		return engine.Abandoned
	}
	return worst
}

// Latency returns the time from its arrival to the end of its last delivery.
func (v Shown) Latency() time.Duration {
	if v.Trace == nil {
		return 0
	}
	last := v.Trace.Arrived
	for _, d := range v.Trace.Ended {
		last = max(last, d.Ended)
	}
	if t := v.Last(); t != nil && t.Invocation.Done > 0 && len(v.Trace.Attempts) == 1 {
		last = t.Invocation.Done
	}
	return last.Sub(v.Trace.Arrived)
}

// Verdicts returns which expectations were met.
func (v Shown) Verdicts() []payload.Verdict {
	t := v.Last()
	if v.Item.Expect == nil || t == nil || t.Reply == nil || t.Reply.Result != engine.OK {
		return nil
	}
	body, _ := t.Reply.Plain()
	return v.Item.Expect.Check(v.Sent, t.Reply.Status, body)
}

// Unexpected returns which expectations were not met, in words.
func (v Shown) Unexpected() (out []string) {
	for _, x := range v.Verdicts() {
		if !x.Held {
			out = append(out, fmt.Sprintf("expected %s, got %s", x.Text, x.Got))
		}
	}
	return out
}

// Before returns the previous firing of the same event that had a reply; ok is false if there is
// none.
func (s *Session) Before(f *Firing) (Shown, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, x := range slices.Backward(s.firings) {
		if x.N >= f.N || x.Item.Key() != f.Item.Key() {
			continue
		}
		if v := s.look(x); v.Last() != nil && v.Last().Reply != nil && v.Last().Reply.Status > 0 {
			return v, true
		}
	}
	return Shown{}, false
}

// Differences returns how a reply differs from an earlier one: status, content type, and the body
// except for what is ignored.
func Differences(was, is *Shown, leaveOut []string) (out []jsondiff.Difference) {
	a, b := was.Last().Reply, is.Last().Reply
	if a.Status != b.Status {
		out = append(out, jsondiff.Difference{At: "status", Was: fmt.Sprint(a.Status), Is: fmt.Sprint(b.Status)})
	}
	if x, y := a.Header.Get("Content-Type"), b.Header.Get("Content-Type"); x != y {
		out = append(out, jsondiff.Difference{At: "content type", Was: x, Is: y})
	}
	x, _ := a.Plain()
	y, _ := b.Plain()
	if len(x) > differLimit || len(y) > differLimit {
		if string(x) != string(y) {
			out = append(out, jsondiff.Difference{At: "body", Was: fmt.Sprintf("%d bytes", len(x)),
				Is: fmt.Sprintf("%d different bytes", len(y))})
		}
		return out
	}
	if is.Item.Expect != nil {
		leaveOut = append(slices.Clone(leaveOut), is.Item.Expect.LeaveOut...)
	}
	return append(out, jsondiff.Between(x, y, leaveOut)...)
}

// differLimit is the largest body that is compared in detail.
const differLimit = 4 << 20

// linesAfter is how long after a reply lines still count as its invocation's,
// unless the instance got another one before.
const linesAfter = 300 * time.Millisecond

// Lines returns the log lines of an attempt: those that its instance wrote from its dispatch on,
// for a cold one also those of its start.
func (s *Session) Lines(v Shown, t *runner.Attempt, most int) []logs.Entry {
	if t.Name == "" {
		return nil
	}
	from := t.Began
	began := func(at int64) time.Time { return t.Began.Add(time.Duration(at - int64(t.Invocation.Assigned))) }
	if t.Invocation.Class == engine.Cold {
		from = began(int64(t.Instance.Spawned))
	}
	to := time.Now().Add(time.Hour)
	if t.Over && t.Invocation.Done > 0 {
		to = began(int64(t.Invocation.Done)).Add(linesAfter)
	}
	s.mu.Lock()
	for _, f := range slices.Backward(s.firings) {
		if f.trace == nil || f.driver != v.driver {
			continue
		}
		if f.At.Before(from) {
			break
		}
		if at, ok := f.driver.NextOn(f.trace, t); ok && at.Before(to) {
			to = at
		}
	}
	log := s.Log
	s.mu.Unlock()
	return log.Between(t.Name, from, to, most)
}

// heardAfter is how long the reading of log lines may take.
const heardAfter = 25 * time.Millisecond

// Heard waits a little for the log lines of a firing that is over: they come another way than the
// reply.
func (s *Session) Heard(v Shown) {
	if t := v.Last(); t != nil && t.Name != "" {
		time.Sleep(heardAfter)
	}
}

// Variants returns the variants of the functions that a source leads to.
func (s *Session) Variants(source string) (out []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := s.SourceNamed(source)
	if i < 0 {
		return nil
	}
	for _, w := range s.Sources[i].Wires {
		for _, name := range s.Functions[w.To].VariantNames() {
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

// Keep makes a payload of a reply, for another source: a request with it as the body, or an event
// with it as the data.
func Keep(v *Shown, to *plan.Source) ([]byte, error) {
	t := v.Last()
	if t == nil || t.Reply == nil || t.Reply.Status == 0 {
		return nil, fmt.Errorf("no reply to keep")
	}
	body, _ := t.Reply.Plain()
	kind := t.Reply.Header.Get("Content-Type")
	if to.Kind == plan.HTTP {
		p := payload.Payload{Request: &event.Request{Method: "POST", Target: "/", Body: body}}
		if kind != "" {
			p.Request.Header = append(p.Request.Header, event.Field{Name: "Content-Type", Value: kind})
		}
		for _, w := range to.Wires { // a place that the source takes, where it says one
			if path := w.When.Path.Literal(); path != "" {
				p.Request.Target = path
				if w.When.Method != "" {
					p.Request.Method = w.When.Method
				}
				break
			}
		}
		return p.Text(), nil
	}
	e := &event.Event{ID: uuid.NewString(), Source: "/" + v.Item.SourceName, Type: "reply", DataContentType: kind,
		Data: body,
		Time: v.At.UTC().Round(time.Millisecond)}
	e.Binary = len(body) > 0 && !event.IsJSON(kind) && !text.IsText(body)
	return (&payload.Payload{Event: e}).Text(), nil
}

// Series is an event that is fired several times in a row.
type Series struct {
	stop context.CancelFunc
	done chan struct{}
	says string
}

// Done is closed when the last one is over.
func (x *Series) Done() <-chan struct{} { return x.done }

// Stop ends the series after the firing that is in progress.
func (x *Series) Stop() { x.stop() }

// Over reports whether it is over.
func (x *Series) Over() bool {
	select {
	case <-x.done:
		return true
	default:
		return false
	}
}

// Says describes the result in a sentence, once the series is over.
func (x *Series) Says() string {
	<-x.done
	return x.says
}

// FireTimes fires an event several times, each when the one before is over. It ends early when one
// could not be sent.
func (s *Session) FireTimes(o Order, times int) *Series {
	ctx, stop := context.WithCancel(s.life)
	x := &Series{stop: stop, done: make(chan struct{})}
	go func() {
		defer close(x.done)
		defer stop()
		took := map[engine.Class][]time.Duration{}
		n, bad := 0, 0
		for range times {
			if ctx.Err() != nil {
				break
			}
			f := s.Fire(o)
			<-f.Done()
			v := s.Look(f)
			if n++; v.Outcome() != engine.Done {
				bad++
			}
			if v.Refused != nil {
				break
			}
			if t := v.Last(); t != nil {
				took[t.Invocation.Class] = append(took[t.Invocation.Class], v.Latency())
			}
		}
		x.says = fmt.Sprintf("Fired %d times", n)
		for _, class := range []engine.Class{engine.Cold, engine.First, engine.Warm} {
			if all := took[class]; len(all) > 0 {
				slices.Sort(all)
				x.says += fmt.Sprintf("; %v %d, median %s, from %s to %s", class, len(all),
					figure.Duration(all[(len(all)-1)/2]), figure.Duration(all[0]), figure.Duration(all[len(all)-1]))
			}
		}
		if x.says += "."; bad > 0 {
			x.says += fmt.Sprintf(" %d did not succeed.", bad)
		}
	}()
	return x
}

// Preview returns what an item would send now.
func (s *Session) Preview(i *catalog.Item) (*payload.Payload, error) {
	s.mu.Lock()
	n := s.counts[i.Key()] + 1
	s.mu.Unlock()
	return i.Fill(payload.Values{Now: time.Now(), Counter: n, Seed: 1, UUID: uuid.NewString})
}
