package upstream

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/upstream"
	"nightdrill.dev/internal/live/hosts"
	"nightdrill.dev/internal/live/recorder"
)

// call is a call in progress.
type call struct {
	Call
	at       *standIn
	with     *work
	of       Of
	left     atomic.Pointer[time.Time] // when the function did not wait any more
	cut      bool                      // the reply ended in the middle
	how      plan.Behaviour
	draw     upstream.Draw
	sent     recorder.Copy
	received recorder.Copy
	request  event.Request
	reply    *payload.Reply // of Record
	length   int64          // of the reply's body, or -1
	comment  string
}

// serve answers one request at an entrance.
func serve(w http.ResponseWriter, r *http.Request) {
	c, ok := r.Context().Value(connKey{}).(*conn)
	if !ok { // a listener of ours gives no other
		http.Error(w, "Night Drill: no upstream", http.StatusInternalServerError)
		return
	}
	c.gate.mu.Lock()
	if c.gate.closed {
		c.gate.mu.Unlock()
		return
	}
	c.gate.serving.Add(1)
	c.gate.mu.Unlock()
	defer c.gate.serving.Done()
	if c.at == nil {
		c.gate.serveProxy(w, r)
		return
	}
	if why := hosts.Check(r, c.gate.set.Hosts); why != "" && !c.proxied {
		http.Error(w, "Night Drill: "+why, http.StatusMisdirectedRequest)
		return
	}
	hosts.EndAfter(w, r)
	c.at.serve(w, r, c.gate.caller)
}

func (x *standIn) serve(w http.ResponseWriter, r *http.Request, caller Caller) {
	c := &call{at: x, of: caller.Calling(r.Header.Get("Traceparent")), with: x.take()}
	defer c.with.using.Done()
	c.Began = time.Now()
	c.Label = r.Method + " " + payload.Short(payload.ShownTarget(r.RequestURI), 160)
	c.Upstream, c.how = x.number, *x.behaviour.Load()
	c.Invocation, c.Among, c.Starting = c.of.Invocation, c.of.Among, c.of.Starting
	c.draw = x.drawFor(c.of.Event)
	x.calls.Add(1)
	defer func() {
		// a panic with ErrAbortHandler ends the connection in the middle of a reply, and nothing else
		p := recover()
		c.Done = time.Now()
		if at := c.left.Load(); at != nil {
			c.Done = *at
		}
		if p != nil && c.Failed == record.CallAnswered {
			c.Failed = record.CallReset
		}
		if r.Context().Err() != nil && (c.Failed == record.CallAnswered && c.First.IsZero() ||
			c.Failed == record.CallUnreachable) {
			c.Failed = record.CallLeft
		}
		caller.Called(c.of, c.Call)
		if p != nil {
			panic(p)
		}
	}()
	if !x.limit.enter(r.Context()) {
		c.Failed = record.CallLeft
		return
	}
	defer x.limit.leave()
	c.Waited = time.Since(c.Began)
	c.answer(w, r)
}

// drawFor returns the chance of the next call for an event.
func (x *standIn) drawFor(event string) upstream.Draw {
	x.mu.Lock()
	n := x.made[event]
	if event == "" || n > 0 || len(x.made) < mostEvents {
		x.made[event]++
	}
	x.mu.Unlock()
	return upstream.NewDraw(x.set.Seed, x.Name, event, n)
}

// mostEvents bounds the events whose calls are counted.
const mostEvents = 1_000_000

// answer answers the call.
func (c *call) answer(w http.ResponseWriter, r *http.Request) {
	switch fails := c.draw.Fails(&c.how); {
	case fails && c.how.Fault != plan.FaultStatus:
		c.Way, c.OnPurpose = record.CallPlanned, true
		_, _ = io.Copy(io.Discard, io.LimitReader(r.Body, recorder.Kept)) // what cannot be read is not needed
		c.breakOff(w, r)
	case fails:
		c.Way, c.OnPurpose = record.CallPlanned, true
		_, _ = io.Copy(io.Discard, io.LimitReader(r.Body, recorder.Kept))
		if !c.pause(r.Context(), c.draw.Latency(&c.how, 0)) {
			return
		}
		status := c.how.Status
		if status == 0 {
			status = plan.DefaultFaultStatus
		}
		c.problem(w, status, "failed on purpose", "the stand-in for "+c.at.Name+" lets "+plan.ShareText(c.how.Fail)+
			" of the calls fail")
	case c.with.mode == plan.Replay:
		c.replay(w, r)
	default:
		c.pass(w, r)
	}
}

// breakOff ends the call without a reply, as its fault says.
func (c *call) breakOff(w http.ResponseWriter, r *http.Request) {
	c.Failed = record.CallReset
	if c.how.Fault == plan.FaultStall {
		<-r.Context().Done()
		c.Failed = record.CallLeft
		return
	}
	if c.pause(r.Context(), c.draw.Latency(&c.how, 0)) {
		reset(w)
	}
}

// reset ends a connection as a peer does that is gone: with RST where there is TCP.
func reset(w http.ResponseWriter) {
	h, ok := w.(http.Hijacker)
	if !ok {
		panic(http.ErrAbortHandler)
	}
	raw, _, err := h.Hijack()
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	under := raw
	for under != nil {
		switch c := under.(type) {
		case *conn:
			under = c.Conn
		case *read:
			under = c.Conn
		case *tls.Conn:
			under = c.NetConn()
		case *net.TCPConn:
			_ = c.SetLinger(0)
			under = nil
		default:
			under = nil
		}
	}
	_ = raw.Close()
}

// pause waits until so long after the call began to be served; false where its caller has left before.
func (c *call) pause(ctx context.Context, after time.Duration) bool {
	left := time.Until(c.Began.Add(c.Waited + after))
	if left <= 0 {
		return ctx.Err() == nil
	}
	t := time.NewTimer(left)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		c.Failed = record.CallLeft
		return false
	}
}

// problem answers with problem JSON (RFC 9457).
func (c *call) problem(w http.ResponseWriter, status int, title, detail string) {
	var body bytes.Buffer
	e := json.NewEncoder(&body)
	e.SetEscapeHTML(false) // a query stays readable
	_ = e.Encode(map[string]any{"title": "Night Drill: " + title, "status": status, "detail": detail})
	w.Header().Set("Content-Type", "application/problem+json")
	c.First, c.Status = time.Now(), int32(status)
	w.WriteHeader(status)
	_, _ = w.Write(body.Bytes()) // a caller that has left is recorded as such
}

// replay answers from the recording.
func (c *call) replay(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(io.LimitReader(r.Body, recorder.Kept))
	if err != nil {
		c.Failed = record.CallLeft
		return
	}
	_, _ = io.Copy(io.Discard, r.Body)
	q := &event.Request{Method: r.Method, Target: r.RequestURI, Body: body}
	if kind := r.Header.Get("Content-Type"); kind != "" {
		q.Header = []event.Field{{Name: "Content-Type", Value: kind}}
	}
	c.at.mu.Lock()
	e, repeated := c.with.cursor.Next(q, c.of.Event)
	c.at.mu.Unlock()
	if e == nil {
		c.missing(w, r, q)
		return
	}
	c.Way, c.Repeated = record.CallReplayed, repeated
	whole := e.Wait + e.Receive
	if took := c.draw.Latency(&c.how, whole); whole > 0 && took != whole {
		share := float64(took) / float64(whole)
		scaled := *e
		scaled.Wait, scaled.Receive = time.Duration(float64(e.Wait)*share), time.Duration(float64(e.Receive)*share)
		e = &scaled
	} else if whole == 0 && took > 0 {
		scaled := *e
		scaled.Wait = took
		e = &scaled
	}
	if !c.pause(r.Context(), e.Wait) {
		return
	}
	if e.Reply == nil {
		c.Failed = record.CallReset
		reset(w)
		return
	}
	to := w.Header()
	for _, h := range e.Reply.Header {
		if !slices.Contains(notReplayed, strings.ToLower(h.Name)) {
			to.Add(h.Name, h.Value)
		}
	}
	if r.Method != http.MethodHead && bodyAllowed(e.Reply.Status) {
		to.Set("Content-Length", fmt.Sprint(len(e.Reply.Body)))
	}
	c.First, c.Status = time.Now(), int32(e.Reply.Status)
	w.WriteHeader(e.Reply.Status)
	if e.Receive > shortReceive {
		_ = http.NewResponseController(w).Flush()
		if !c.pause(r.Context(), e.Wait+e.Receive) {
			return
		}
	}
	_, _ = w.Write(e.Reply.Body)
}

// shortReceive is up to where the end of a reply follows its beginning at once.
const shortReceive = 200 * time.Microsecond

// notReplayed are headers of the recorded connection, and those that are made anew.
var notReplayed = []string{"content-length", "transfer-encoding", "connection", "keep-alive", "trailer", "upgrade"}

// bodyAllowed reports whether a reply with a status has a body (RFC 9110 §6.4.1).
func bodyAllowed(status int) bool { return status >= 200 && status != 204 && status != 304 }

// missing answers a call that is not in the recording.
func (c *call) missing(w http.ResponseWriter, r *http.Request, q *event.Request) {
	near := c.with.library.Nearest(q)
	if c.at.PassMissing {
		c.at.set.say("%s: %s is not in the recording and was passed on; %s", c.at.Name, c.Label, near)
		r.Body = io.NopCloser(bytes.NewReader(q.Body))
		c.pass(w, r)
		return
	}
	c.Way = record.CallMissing
	c.Why = fmt.Sprintf("%s is not in the recording of %s; %s", c.Label, c.at.Name, near)
	c.at.set.say("%s: %s is not in the recording; %s", c.at.Name, c.Label, near)
	c.problem(w, http.StatusBadGateway, "no recorded reply", c.Why)
}

// pass passes the call on to the service.
func (c *call) pass(w http.ResponseWriter, r *http.Request) {
	x := c.at
	if c.with.recording != nil {
		c.Way = record.CallRecorded
	}
	if x.through == nil {
		c.Failed = record.CallUnreachable
		c.problem(w, http.StatusBadGateway, "no service", x.Name+" has no url, so calls cannot be passed on")
		return
	}
	if c.with.recording != nil {
		c.request = event.Request{Method: r.Method, Target: r.RequestURI, Header: kept(r.Header)}
		if r.Body != nil && r.Body != http.NoBody {
			r.Body = &recorder.Tee{ReadCloser: r.Body, Copy: &c.sent}
		}
		defer func() {
			p := recover()
			c.cut = p != nil
			c.record()
			if p != nil {
				panic(p)
			}
		}()
	}
	ctx := r.Context()
	if c.with.recording != nil { // the reply is recorded to its end, also where the function does not wait for it
		whole, enough := context.WithCancel(context.WithoutCancel(ctx))
		defer enough()
		defer context.AfterFunc(ctx, func() {
			c.left.CompareAndSwap(nil, new(time.Now()))
			time.AfterFunc(patience, enough)
		})()
		ctx = whole
	}
	x.through.ServeHTTP(w, r.WithContext(context.WithValue(ctx, callKey{}, c)))
}

// patience is how long a reply is still heard that the function no longer waits for.
const patience = 10 * time.Second

// draining reads the rest of a body before it is closed.
type draining struct{ recorder.Tee }

// Close implements io.Closer.
func (d *draining) Close() error {
	_, _ = io.Copy(io.Discard, io.LimitReader(&d.Tee, recorder.Kept)) // an error ends it, too
	return d.ReadCloser.Close()
}

// kept returns the headers of a request that are recorded: without those of its trace, which is over.
func kept(h http.Header) (out []event.Field) {
	return slices.DeleteFunc(recorder.Fields(h), func(f event.Field) bool {
		return strings.EqualFold(f.Name, "traceparent") || strings.EqualFold(f.Name, "tracestate")
	})
}

type callKey struct{}

// record writes the exchange down.
func (c *call) record() {
	p := payload.Payload{Request: &c.request, Time: c.Began.UTC(), Call: &payload.Call{Of: c.of.Event}}
	p.Request.Body, _, _ = c.sent.All()
	done := time.Now()
	wait, receive := done.Sub(c.Began)-c.Waited, time.Duration(0)
	whole := c.reply != nil && c.received.Whole(c.length)
	if c.left.Load() != nil && !whole {
		return // the function left; of the service not all was heard
	}
	if c.cut && !whole {
		p.Call.Failed = record.CallReset.String()
	} else if c.reply != nil {
		body, cut, size := c.received.All()
		if cut {
			c.comment = fmt.Sprintf("the first %d of %d bytes of the reply", len(body), size)
		}
		c.reply.Body, p.Reply = body, c.reply
		wait, receive = c.First.Sub(c.Began)-c.Waited, done.Sub(c.First)
	} else if p.Call.Failed = c.Failed.String(); c.Failed == record.CallAnswered {
		return
	}
	c.with.recording.keep(p, max(wait, 0), max(receive, 0), c.comment, func(err error) {
		c.at.set.say("%s: not recorded: %v", c.at.Name, err)
	})
	if c.with.recording.lost.Load() == 1 {
		c.at.set.say("%s: the recording is full, at %d calls or %d MiB; later calls are not in it", c.at.Name,
			mostRecorded, mostRecordedBytes>>20)
	}
}

// proxy returns what passes calls on.
func (x *standIn) proxy() *httputil.ReverseProxy {
	return &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.Out.URL.Scheme, r.Out.URL.Host, r.Out.Host = x.target.Scheme, x.target.Host, x.target.Host
			if c, _ := r.In.Context().Value(callKey{}).(*call); c != nil && c.with.recording != nil {
				// what is compressed cannot be looked through for secrets
				r.Out.Header.Set("Accept-Encoding", "identity")
			}
		},
		Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, DisableCompression: true, MaxIdleConnsPerHost: 256,
			IdleConnTimeout: 90 * time.Second, TLSHandshakeTimeout: 10 * time.Second},
		FlushInterval: -1, ErrorLog: unheard,
		ModifyResponse: func(r *http.Response) error {
			c, _ := r.Request.Context().Value(callKey{}).(*call)
			if c == nil {
				return nil
			}
			passed := time.Since(c.Began) - c.Waited
			if took := c.draw.Latency(&c.how, passed); took > passed && !c.pause(r.Request.Context(), took) {
				return context.Canceled
			}
			c.First, c.Status = time.Now(), int32(r.StatusCode)
			if c.with.recording != nil && r.StatusCode != http.StatusSwitchingProtocols {
				c.reply, c.length = &payload.Reply{Status: r.StatusCode, Header: recorder.Fields(r.Header)},
					r.ContentLength
				r.Body = &draining{recorder.Tee{ReadCloser: r.Body, Copy: &c.received}}
			}
			return nil
		},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			c, _ := r.Context().Value(callKey{}).(*call)
			if c == nil || r.Context().Err() != nil {
				return
			}
			// the function sees what it would see of the service: a connection that ends
			c.Failed, c.Why = record.CallUnreachable, "the service was not reached: "+reason(err)
			x.set.say("%s: %s", x.Name, c.Why)
			reset(w)
		},
	}
}

// unheard is for what the standard library says of calls, which are recorded.
var unheard = log.New(io.Discard, "", 0)

// reason returns an error without the URL that it may quote.
func reason(err error) string {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	return err.Error()
}

// redact returns a request with stand-ins in place of its secrets.
func (x *standIn) redact(r *event.Request) *event.Request {
	out, _, _ := x.redactor.Apply(payload.Payload{Request: r})
	return out.Request
}
