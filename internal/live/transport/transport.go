// Package transport is the transport by HTTP: one connection for each slot, on
// which requests are written and replies read by net/http's own encoders, with
// no pool in between that could send a request twice, follow a redirect or
// unpack a body.
package transport

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/plan"
)

const (
	// ReplyLimit is the largest body that is read, in bytes.
	ReplyLimit = 64 << 20
	// headLimit bounds status line and headers of a reply.
	headLimit = 1 << 20
	// slowReply is from how long on a reply takes so long that one more look at the connection
	// costs nothing beside it.
	slowReply = time.Millisecond
	// quietAfter is how long after a reply another one that follows it would have come.
	quietAfter = 2 * time.Millisecond
	// unlooked is for how long after a reply, and how often in a row, a connection that has proven itself is used again
	// without a look at it. A look costs as much as a twentieth of a call.
	unlookedFor  = 100 * time.Microsecond
	unlookedTill = 16
	// wireKept is how large a request may be of which the bytes are kept to be sent again.
	wireKept = 16 << 10
	// bodyKept is how much of a body is kept for those who look at it.
	bodyKept = 64 << 10
)

// Message is what is sent for one invocation.
type Message struct {
	Method string
	Target string
	Header []event.Field
	Body   []byte
	Wrong  string         // why it cannot be sent; "" where it can
	Call   *Call          // the head of its frame, for a loader; nil for others
	of     *event.Request // the HTTP event that it is, if so
}

// Build returns the message for a batch: an HTTP event is the request that it
// is; other events go by the CloudEvents HTTP binding in the function's form,
// in the batch form where the source makes batches. The context ends templates, which may
// take long ([Shaped]).
func Build(ctx context.Context, f *plan.Function, request *event.Request, events []*event.Event, batch bool) Message {
	if f != nil && f.Transport == plan.Loaded {
		return call(ctx, f, request, events, batch)
	}
	if f != nil && f.Transport == plan.Lines {
		return line(ctx, f, request, events, batch)
	}
	if f != nil && Shaped(f) {
		return shaped(ctx, f, request, events)
	}
	if request != nil {
		return Message{Method: request.Method, Target: request.Target, Header: request.Header, Body: request.Body,
			of: request}
	}
	m := Message{Method: "POST", Target: f.Path}
	switch {
	case batch:
		m.Header = []event.Field{{Name: "content-type", Value: event.BatchType}}
		m.Body = event.AppendBatch(nil, events)
	case f.Deliver == plan.DeliverStructured:
		m.Header = []event.Field{{Name: "content-type", Value: event.StructuredType}}
		m.Body = events[0].AppendJSON(nil)
	case f.Deliver == plan.DeliverBody:
		kind := events[0].DataContentType
		if kind == "" {
			kind = "application/json"
		}
		m.Header = []event.Field{{Name: "content-type", Value: kind}}
		m.Body = events[0].Data
	default:
		m.Header, m.Body = events[0].Headers(), events[0].Data
	}
	return m
}

// Shaped reports whether a function's messages are made by a template of the user's.
func Shaped(f *plan.Function) bool { return f.Shape != nil && f.Deliver == plan.DeliverShaped }

// shaped returns what the function's template makes of events, or of a request.
func shaped(ctx context.Context, f *plan.Function, request *event.Request, events []*event.Event) Message {
	m := Message{Method: "POST", Target: f.Path}
	var body []byte
	var kind string
	var err error
	if request != nil {
		body, kind, err = f.Shape.RequestBody(request, uuid.NewString(), time.Now().UTC(), ctx.Err)
	} else {
		body, kind, err = f.Shape.Body(events, time.Now().UTC(), ctx.Err)
	}
	if err != nil {
		m.Wrong = "the event could not be shaped: " + err.Error()
		return m
	}
	m.Header, m.Body = []event.Field{{Name: "content-type", Value: kind}}, body
	return m
}

// Reply is what came back.
type Reply struct {
	Status     int
	RetryAfter time.Duration // 0 when the reply has none
	Header     http.Header   // not to be changed: replies that are alike share it
	Body       []byte        // its beginning, as much as is kept
	Timing     string        // the Server-Timing header (W3C Server Timing)
	Size       int64         // of the whole body
	Sent       time.Time     // just before the first byte was written; zero when it never came to that
	Received   time.Time     // the first byte of the reply; zero when there was none
	Done       time.Time
	Result     engine.Result // OK when there is a whole reply, whatever its status
	Why        string        // what went wrong, in words
	// Before is set where the reply before this one, on the same connection, was followed
	// by bytes that no request asked for. The connection was closed.
	Before bool
	// Quiet is set where the connection was new, or had nothing to read although its last
	// reply had come a while ago: no earlier reply can have been taken for this one.
	Quiet bool
	// Surplus is set where this reply itself was followed by such bytes.
	Surplus bool
	// Closed is set where the connection, which had brought replies before, was closed before this one.
	Closed  bool
	headKey uint64 // of what is kept of the header; 0 where it is not known
}

// Carrier hands requests over to one slot of an instance and brings replies back.
type Carrier interface {
	// Do sends a message, once, and reads its reply. The context ends it early.
	Do(ctx context.Context, m *Message, trace string) Reply
	// Close breaks off what is in progress.
	Close()
}

// Conn is the connection of one slot. It is for one goroutine, Close excepted.
type Conn struct {
	network string // "tcp" or "unix"
	address string
	Fresh   bool // a connection of its own for each request
	conn    net.Conn
	raw     limited
	in      *bufio.Reader
	out     *bufio.Writer
	used    time.Time // when its last reply was whole
	scratch [8 << 10]byte
	Keep    int            // how much of a body is kept, in bytes
	last    *event.Request // the HTTP event that was sent last,
	request *http.Request  // its request, to be sent again, and
	wire    []byte         // its bytes; empty where they are not kept
	trace   []byte         // the place of the traceparent in them
	replies int            // on this connection
	// unlooked is set where the last request went out without a look at the connection, and closes where the other end
	// has closed one without having said so
	unlooked, closes bool
	known            head // of the last reply
	rest             rest // of its body
}

// limited bounds what is read for one part of a reply.
type limited struct {
	from  io.Reader
	left  int64
	ended bool // the other end has no more to say
}

var errLimit = errors.New("the limit is reached")

func (l *limited) Read(p []byte) (int, error) {
	if l.left <= 0 {
		return 0, errLimit
	}
	if int64(len(p)) > l.left {
		p = p[:l.left]
	}
	n, err := l.from.Read(p)
	l.left -= int64(n)
	l.ended = err != nil
	return n, err
}

// New returns a connection to an address, or to a Unix socket by its path; it is
// opened when it is first used.
func New(address string) *Conn {
	c := &Conn{network: "tcp", address: address, Keep: Kept}
	if strings.HasPrefix(address, "/") {
		c.network = "unix"
	}
	c.in = bufio.NewReaderSize(&c.raw, 16<<10)
	c.out = bufio.NewWriterSize(nil, 16<<10)
	return c
}

// Close breaks the connection off; a Do that waits returns.
func (c *Conn) Close() {
	if c.conn != nil {
		c.conn.Close()
	}
}

// Surplus reports whether bytes have come that no request asked for. No Do may be in progress.
func (c *Conn) Surplus() bool {
	if c.conn == nil {
		return false
	}
	sent, _ := c.idle()
	return sent
}

// idle looks at the connection between two requests: whether bytes have come that no request asked for, and whether the
// other end has closed it.
func (c *Conn) idle() (sent, closed bool) {
	sent, closed = look(c.conn)
	return sent || c.in.Buffered() > 0, closed
}

// Do sends a message, once, and reads its reply. The context ends it early.
func (c *Conn) Do(ctx context.Context, m *Message, trace string) Reply {
	if m.Wrong != "" {
		return Reply{Done: time.Now(), Result: engine.Garbled, Why: m.Wrong}
	}
	var r Reply
	r.Quiet = c.conn == nil || time.Since(c.used) > quietAfter
	r.Before = c.check()
	r.Quiet = r.Quiet || r.Before
	if err := c.open(ctx); err != nil {
		return Reply{Done: time.Now(), Result: engine.Unreachable, Why: err.Error(), Before: r.Before}
	}
	req := c.prepare(m, trace)
	r.Sent = time.Now()
	if err := c.write(req); err != nil {
		// a function may answer before it has read all; what it says counts
		if c.peek(&r) != nil {
			return c.closed(r, "the connection closed while the request was being written")
		}
	}
	return c.read(req, r)
}

// write sends a request that prepare returned.
func (c *Conn) write(req *http.Request) error {
	if len(c.wire) > 0 {
		_, err := c.conn.Write(c.wire)
		return err
	}
	if err := req.Write(c.out); err != nil {
		return err
	}
	return c.out.Flush()
}

// drop closes the connection; the next Do opens another.
func (c *Conn) drop() {
	c.conn.Close()
	c.conn, c.replies = nil, 0
}

func (c *Conn) fail(r Reply, result engine.Result, why string) Reply {
	r.Done, r.Result, r.Why = time.Now(), result, why
	c.drop()
	return r
}

// closed fails a reply of which nothing came.
func (c *Conn) closed(r Reply, why string) Reply {
	r.Closed = c.replies > 0
	c.closes = c.closes || r.Closed
	return c.fail(r, engine.Disconnected, why)
}

// peek waits for the first byte of a reply.
func (c *Conn) peek(r *Reply) error {
	c.raw.left = headLimit
	_, err := c.in.Peek(1)
	if err == nil {
		r.Received = time.Now()
	}
	return err
}

func (c *Conn) read(req *http.Request, r Reply) Reply {
	if r.Received.IsZero() {
		if err := c.peek(&r); err != nil {
			return c.closed(r, "the connection closed before it answered")
		}
	}
	var resp *http.Response
	start, _ := c.in.Peek(5)
	http1 := strings.HasPrefix("HTTP/", string(start))
	for {
		var err error
		if resp, err = c.heads(req); err != nil {
			switch {
			case c.raw.left <= 0:
				return c.fail(r, engine.TooLarge, fmt.Sprintf("the headers of the reply are larger than %d KiB",
					headLimit>>10))
			case http1 && c.raw.ended:
				return c.fail(r, engine.Disconnected, "the connection closed in the middle of the reply's headers")
			}
			why := "the reply is not HTTP: " + err.Error()
			if c.unlooked {
				why += "; or bytes that no request asked for had followed the reply before it"
			}
			return c.fail(r, engine.Garbled, why)
		}
		// interim answers come before the real one (RFC 9110 §15.2)
		if resp.StatusCode >= 200 || resp.StatusCode == http.StatusSwitchingProtocols {
			break
		}
	}
	if resp.StatusCode == http.StatusSwitchingProtocols {
		return c.fail(r, engine.Garbled, "the reply has status 101 (switching protocols), which was not requested")
	}
	r.Status = resp.StatusCode
	r.Header, r.Timing = resp.Header, strings.Join(resp.Header["Server-Timing"], ", ")
	r.RetryAfter = retryAfter(resp.Header.Get("Retry-After"), r.Received)
	if resp == c.known.resp {
		r.headKey = c.known.key
	}
	c.raw.left = ReplyLimit + 1
	err := c.body(&r, resp.Body)
	switch {
	case r.Size > ReplyLimit || errors.Is(err, errLimit):
		return c.fail(r, engine.TooLarge, fmt.Sprintf("the reply is larger than %d MiB", ReplyLimit>>20))
	case err != nil && isGarbled(err):
		return c.fail(r, engine.Garbled, "the body of the reply is not HTTP: "+err.Error())
	case err != nil:
		return c.fail(r, engine.Disconnected, "the connection closed in the middle of the reply's body")
	}
	r.Done = time.Now()
	// what follows a reply would be taken for the next one; where that is at hand at once, it
	// is looked for again before the next request
	sent := false
	if r.Done.Sub(r.Sent) > slowReply {
		sent, _ = look(c.conn)
	}
	if c.in.Buffered() > 0 || sent {
		r.Surplus = true
		return c.fail(r, engine.Garbled, surplus(resp, req, c.in.Buffered()))
	}
	c.used = r.Done
	c.replies++
	if resp.Close || c.Fresh {
		c.drop()
	}
	return r
}

// surplus returns what followed a reply, and why that is more than it may have.
func surplus(resp *http.Response, req *http.Request, n int) string {
	what := "bytes followed the reply"
	if n > 0 {
		what = fmt.Sprintf("%d bytes followed the reply", n)
	}
	switch {
	case req.Method == http.MethodHead:
		return what + ", and a reply to HEAD has no body"
	case resp.StatusCode == http.StatusNoContent || resp.StatusCode == http.StatusNotModified:
		return fmt.Sprintf("%s, and one with status %d has no body", what, resp.StatusCode)
	case resp.ContentLength >= 0:
		return fmt.Sprintf("%s, which ended after its Content-Length of %d", what, resp.ContentLength)
	}
	return what + ", which had ended"
}

func isNet(err error) bool {
	var n net.Error
	var o *net.OpError
	return errors.As(err, &n) || errors.As(err, &o)
}

func isGarbled(err error) bool {
	return !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) && !isNet(err)
}

// body reads a body to its end and keeps its beginning.
func (c *Conn) body(r *Reply, from io.Reader) error {
	for {
		n, err := from.Read(c.scratch[:])
		r.Size += int64(n)
		if room := c.Keep - len(r.Body); room > 0 {
			r.Body = append(r.Body, c.scratch[:min(room, n)]...)
		}
		if err != nil {
			if err == io.EOF {
				return nil
			}
			return err
		}
	}
}

// check closes a connection that the other end has closed, or on which it has sent what no
// request asked for; it reports whether it has.
func (c *Conn) check() (surplus bool) {
	c.unlooked = false
	if c.conn == nil {
		return false
	}
	if !c.closes && c.replies > unlookedTill && c.replies%unlookedTill != 0 && time.Since(c.used) < unlookedFor {
		c.unlooked = true
		return false
	}
	sent, closed := c.idle()
	if c.closes = c.closes || closed; sent || closed {
		c.drop()
	}
	return sent
}

// open makes sure that there is a connection.
func (c *Conn) open(ctx context.Context) error {
	if c.conn != nil {
		return nil
	}
	conn, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, c.network, c.address)
	if err != nil {
		return fmt.Errorf("no connection to %s: %w", c.address, errors.Unwrap(err))
	}
	c.conn, c.raw.from = conn, conn
	c.in.Reset(&c.raw)
	c.out.Reset(conn)
	return nil
}

// prepare returns the request of a message, for write. An HTTP event is often sent many times in a row; its request is
// encoded once, and only the trace is entered anew.
func (c *Conn) prepare(m *Message, trace string) *http.Request {
	if m.of != nil && m.of == c.last && len(trace) == len(c.trace) {
		copy(c.trace, trace)
		return c.request
	}
	c.last, c.wire, c.trace = nil, c.wire[:0], nil
	req := c.made(m, trace)
	if m.of == nil || len(m.Body) > wireKept/2 {
		return req
	}
	b := bytes.NewBuffer(c.wire)
	err := req.Write(b)
	const name = "\r\nTraceparent: "
	if at := bytes.Index(b.Bytes(), []byte(name)); err == nil && at >= 0 && b.Len() <= wireKept {
		c.last, c.request, c.wire = m.of, req, b.Bytes()
		c.trace = c.wire[at+len(name):][:len(trace)]
		return req
	}
	return c.made(m, trace) // its body has been read
}

// made returns the request of a message on this connection.
func (c *Conn) made(m *Message, trace string) *http.Request {
	host := c.address
	if c.network == "unix" {
		host = "localhost"
	}
	req := m.request(host, trace)
	req.Close = c.Fresh
	return req
}

// request returns the message as net/http's own request.
func (m *Message) request(address, trace string) *http.Request {
	req := &http.Request{Method: m.Method, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
		Header: make(http.Header, len(m.Header)+2), Host: address}
	req.URL = target(m.Target)
	for _, h := range m.Header {
		if strings.EqualFold(h.Name, "host") {
			continue // the instance's own, as a gateway in front of it would send
		}
		req.Header.Add(h.Name, h.Value)
	}
	if _, own := req.Header["User-Agent"]; !own {
		req.Header.Set("User-Agent", "nightdrill")
	}
	req.Header.Set("Traceparent", trace)
	if len(m.Body) > 0 || m.Method == "POST" || m.Method == "PUT" || m.Method == "PATCH" {
		req.ContentLength = int64(len(m.Body))
		req.Body = io.NopCloser(bytes.NewReader(m.Body))
		if len(m.Body) == 0 {
			req.Body = http.NoBody
		}
	}
	return req
}

// target returns a request target as a URL that is written as it stands.
func target(s string) *url.URL {
	path, query, has := strings.Cut(s, "?")
	if plain, err := url.PathUnescape(path); err == nil && strings.HasPrefix(path, "/") {
		return &url.URL{Path: plain, RawPath: path, RawQuery: query, ForceQuery: has && query == ""}
	}
	return &url.URL{Opaque: s}
}

// retryAfter reads the header of RFC 9110 §10.2.3: seconds or a date.
func retryAfter(s string, now time.Time) time.Duration {
	if s == "" {
		return 0
	}
	if n, err := strconv.Atoi(s); err == nil {
		return time.Duration(min(max(n, 0), 1<<20)) * time.Second
	}
	if t, err := http.ParseTime(s); err == nil {
		return max(t.Sub(now), 0)
	}
	return 0
}

// Traceparent returns the header of W3C Trace Context, version 00: a trace for
// each event, a parent for each invocation.
func Traceparent(run uint64, event int64, invocation uint64) string {
	var b [55]byte
	copy(b[:], "00-")
	hex(b[3:19], run|1)
	hex(b[19:35], uint64(event)+1)
	b[35] = '-'
	hex(b[36:52], invocation)
	copy(b[52:], "-01")
	return string(b[:])
}

// ParseTraceparent returns the run, the event and the invocation that a header of Traceparent is of; ok is false for
// any other header.
func ParseTraceparent(header string) (run uint64, event int64, invocation uint64, ok bool) {
	if len(header) < 55 || header[:3] != "00-" || header[35] != '-' || header[52] != '-' {
		return 0, 0, 0, false
	}
	run, e1 := strconv.ParseUint(header[3:19], 16, 64)
	n, e2 := strconv.ParseUint(header[19:35], 16, 64)
	invocation, e3 := strconv.ParseUint(header[36:52], 16, 64)
	return run, int64(n) - 1, invocation, errors.Join(e1, e2, e3) == nil && n > 0
}

// hex writes a number with leading zeros.
func hex(to []byte, n uint64) {
	for i := len(to) - 1; i >= 0; i-- {
		to[i] = "0123456789abcdef"[n&15]
		n >>= 4
	}
}
