package transport

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/plan"
)

// A frame is three numbers of four bytes each, the most significant first: its number, the length of its head
// and the length of its body; then the head, which is JSON, and the body. Number 0 is the loader's hello, all
// others are an invocation and its reply.

// frameBytes is the size of the numbers before a head.
const frameBytes = 12

// largestHead bounds the head of a frame from a loader.
const largestHead = 8 << 20

// Call is the head of an invocation's frame.
type Call struct {
	ID          string       `json:"id"` // of the event, or of the first of a batch
	Attempt     int32        `json:"attempt"`
	LastAttempt bool         `json:"last_attempt"`
	Deadline    string       `json:"deadline"` // RFC 3339
	Left        float64      `json:"left_ms"`
	Instance    string       `json:"instance"`
	Traceparent string       `json:"traceparent"`
	Takes       string       `json:"takes"`
	Batch       bool         `json:"batch,omitempty"`
	Events      []CallEvent  `json:"events,omitempty"`
	Request     *CallRequest `json:"request,omitempty"`
}

// CallEvent is an event of an invocation: its attributes, and how many bytes of the body are its data.
type CallEvent struct {
	Attributes map[string]string `json:"attributes"`
	Size       int               `json:"size"`
}

// CallRequest is a request without its body.
type CallRequest struct {
	Method  string      `json:"method"`
	Target  string      `json:"target"`
	Headers [][2]string `json:"headers"`
}

// call returns the message for a handler.
func call(ctx context.Context, f *plan.Function, request *event.Request, events []*event.Event, batch bool) Message {
	c := &Call{Takes: f.Handler.Takes.String(), Batch: batch}
	m := Message{Method: "call", Target: f.Handler.Name, Call: c}
	for _, e := range events {
		x := CallEvent{Attributes: map[string]string{"specversion": "1.0", "id": e.ID, "source": e.Source,
			"type": e.Type}, Size: len(e.Data)}
		for name, value := range map[string]string{"subject": e.Subject, "datacontenttype": e.DataContentType} {
			if value != "" {
				x.Attributes[name] = value
			}
		}
		if !e.Time.IsZero() {
			x.Attributes["time"] = e.Time.Format(time.RFC3339Nano)
		}
		for _, extension := range e.Extensions {
			x.Attributes[extension.Name] = extension.Value
		}
		c.Events = append(c.Events, x)
		if f.Handler.Takes != plan.TakesShaped { // which has a body of its own
			m.Body = append(m.Body, e.Data...)
		}
	}
	switch {
	case f.Handler.Takes == plan.TakesShaped:
		shape := shaped(ctx, f, request, events)
		m.Body, m.Wrong = shape.Body, shape.Wrong
	case request != nil:
		c.Request = &CallRequest{Method: request.Method, Target: request.Target, Headers: [][2]string{}}
		for _, h := range request.Header {
			c.Request.Headers = append(c.Request.Headers, [2]string{h.Name, h.Value})
		}
		m.Method, m.Target, m.Header, m.Body = request.Method, request.Target, request.Header, request.Body
	}
	if len(events) > 0 {
		c.ID = events[0].ID
	}
	return m
}

// Fields returns the attributes of the call's events, as they are shown.
func (c *Call) Fields() (out []event.Field) {
	for i := range c.Events {
		of := c.Events[i].Attributes
		for _, name := range slices.Sorted(maps.Keys(of)) {
			out = append(out, event.Field{Name: name, Value: of[name]})
		}
	}
	return out
}

// Link is a connection to a loader.
type Link interface {
	io.ReadWriteCloser
	SetDeadline(t time.Time) error
}

// Frames speaks to a loader over a connection, for one slot.
type Frames struct {
	conn    Link
	in      *bufio.Reader
	number  uint32
	shape   *plan.ReplyShape
	timeout time.Duration
	name    string // of the instance
	dir     string // of the function, from which its files are named
	Keep    int
}

// NewFrames takes up a connection on which a loader has said hello.
func NewFrames(conn Link, in *bufio.Reader, f *plan.Function, instance string) *Frames {
	return &Frames{conn: conn, in: in, shape: f.Handler.Reply, timeout: f.Timeout, name: instance, dir: f.Dir,
		Keep: Kept}
}

// Close interrupts what is in progress.
func (f *Frames) Close() { f.conn.Close() }

// NoSlot stands for a slot for which a loader has no connection: it had been started with so many.
type NoSlot int

// Do returns why nothing can be sent.
func (n NoSlot) Do(context.Context, *Message, string) Reply {
	return Reply{Done: time.Now(), Result: engine.Unreachable, Why: fmt.Sprintf("per_instance was raised while this "+
		"instance ran, which was started with %d", int(n))}
}

// Close does nothing.
func (NoSlot) Close() {}

// HandlerError is what went wrong in a handler, or with it.
type HandlerError struct {
	// raised, not-json, event-shape, reply, exit, uncaught; import, no-file, no-name, not-callable, arity
	Kind    string   `json:"kind"`
	Type    string   `json:"type,omitempty"`
	Message string   `json:"message"`
	File    string   `json:"file,omitempty"`
	Line    int      `json:"line,omitempty"`
	Trace   []string `json:"trace,omitempty"`
}

// Words describes the error, with its place in the user's code; dir is left out of the names of files.
func (e *HandlerError) Words(dir string) string {
	words := e.Message
	if e.Type != "" && e.Kind != "not-json" && e.Kind != "exit" {
		words = strings.TrimSuffix(e.Type+": "+words, ": ")
	}
	if e.File != "" && e.Line > 0 {
		file := e.File
		if rel, err := filepath.Rel(dir, file); err == nil && filepath.IsLocal(rel) {
			file = rel
		}
		words += fmt.Sprintf(" (%s:%d)", file, e.Line)
	}
	return words
}

// Hello is a loader's first frame on a connection.
type Hello struct {
	Slot   int           `json:"slot"`
	Loader time.Duration `json:"loader_ns"` // from the beginning of the loader's own code to that of the user's
	Load   time.Duration `json:"load_ns"`   // loading the user's code
	Error  *HandlerError `json:"error"`
}

// ReadHello reads a loader's first frame.
func ReadHello(in *bufio.Reader) (h Hello, err error) {
	number, head, _, err := readFrame(in, 0)
	if err == nil {
		err = json.Unmarshal(head, &h)
	}
	if err == nil && number != 0 {
		err = fmt.Errorf("the first frame has number %d", number)
	}
	return h, err
}

// readFrame reads a frame; of a body longer than keep, or than what may be read at all, it returns an error.
func readFrame(in *bufio.Reader, most int64) (number uint32, head, body []byte, err error) {
	var lengths [frameBytes]byte
	if _, err = io.ReadFull(in, lengths[:]); err != nil {
		return 0, nil, nil, err
	}
	number = binary.BigEndian.Uint32(lengths[:])
	heads, bodies := binary.BigEndian.Uint32(lengths[4:]), binary.BigEndian.Uint32(lengths[8:])
	switch {
	case heads > largestHead:
		return number, nil, nil, fmt.Errorf("the head of a frame has %d bytes", heads)
	case int64(bodies) > most:
		return number, nil, nil, errLimit
	}
	head, body = make([]byte, heads), make([]byte, bodies)
	if _, err = io.ReadFull(in, head); err == nil {
		_, err = io.ReadFull(in, body)
	}
	return number, head, body, err
}

// appendFrame appends a frame.
func appendFrame(to []byte, number uint32, head, body []byte) []byte {
	to = binary.BigEndian.AppendUint32(to, number)
	to = binary.BigEndian.AppendUint32(to, uint32(len(head)))
	to = binary.BigEndian.AppendUint32(to, uint32(len(body)))
	return append(append(to, head...), body...)
}

// outcome is the head of a loader's reply.
type outcome struct {
	Kind    string        `json:"kind"` // json, bytes, nothing, response or error
	User    time.Duration `json:"user_ns"`
	Status  int           `json:"status"`
	Headers [][2]string   `json:"headers"`
	Error   *HandlerError `json:"error"`
}

// Do sends a call and reads its reply.
func (f *Frames) Do(ctx context.Context, m *Message, trace string) Reply {
	if m.Wrong != "" {
		return Reply{Done: time.Now(), Result: engine.Garbled, Why: m.Wrong}
	}
	stop := context.AfterFunc(ctx, func() { _ = f.conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	c := *m.Call
	c.Traceparent, c.Instance = trace, f.name
	if c.ID == "" && len(trace) > 35 {
		c.ID = trace[3:35]
	}
	r := Reply{Sent: time.Now(), Header: http.Header{}}
	c.Deadline, c.Left = r.Sent.Add(f.timeout).Format(time.RFC3339Nano), float64(f.timeout)/1e6
	head, err := json.Marshal(&c)
	if err != nil {
		panic(err) // texts and numbers always marshal
	}
	f.number++
	broken := func(result engine.Result, format string, args ...any) Reply {
		r.Done, r.Result, r.Why = time.Now(), result, fmt.Sprintf(format, args...)
		return r
	}
	if _, err := f.conn.Write(appendFrame(make([]byte, 0, frameBytes+len(head)+len(m.Body)), f.number, head,
		m.Body)); err != nil {
		return broken(engine.Disconnected, "the loader's connection broke: %v", err)
	}
	if _, err := f.in.Peek(1); err != nil {
		return broken(engine.Disconnected, "the handler's process ended before a reply")
	}
	r.Received = time.Now()
	number, text, body, err := readFrame(f.in, ReplyLimit)
	switch {
	case errors.Is(err, errLimit):
		f.conn.Close()
		return broken(engine.TooLarge, "the reply is larger than %d MiB", ReplyLimit>>20)
	case err != nil:
		return broken(engine.Disconnected, "the handler's process ended in the middle of a reply")
	case number != f.number:
		f.conn.Close()
		return broken(engine.Garbled, "the reply has number %d, %d was asked", number, f.number)
	}
	var o outcome
	if err := json.Unmarshal(text, &o); err != nil {
		f.conn.Close()
		return broken(engine.Garbled, "the head of the reply is not JSON: %v", err)
	}
	r.Done = time.Now()
	f.understand(&r, &o, body)
	if o.User > 0 {
		r.Timing = "handler;dur=" + strconv.FormatFloat(float64(o.User)/1e6, 'f', 3, 64)
	}
	if own := r.Header.Values("Server-Timing"); len(own) > 0 {
		r.Timing = strings.Join(append(own, r.Timing), ", ")
	}
	r.RetryAfter = retryAfter(r.Header.Get("Retry-After"), r.Received)
	return r
}

// understand makes an HTTP reply of what a handler returned.
func (f *Frames) understand(r *Reply, o *outcome, body []byte) {
	r.Status = http.StatusOK
	switch o.Kind {
	case "nothing":
		r.Status = http.StatusNoContent
	case "bytes":
		r.Header.Set("Content-Type", "application/octet-stream")
	case "response":
		r.Status = o.Status
		for _, h := range o.Headers {
			r.Header.Add(h[0], h[1])
		}
	case "json":
		r.Header.Set("Content-Type", "application/json")
		if f.shape != nil {
			body = f.reshape(r, body)
		}
	case "error":
		if o.Error == nil {
			o.Error = &HandlerError{Kind: "raised"}
		}
		r.Why = o.Error.Words(f.dir)
		body = f.problem(r, o.Error)
	default:
		r.Status, r.Result, r.Why = 0, engine.Garbled, fmt.Sprintf("the loader replied with the unknown kind %q",
			o.Kind)
	}
	if r.Result == engine.OK && (r.Status < 100 || r.Status > 599) {
		r.Why = fmt.Sprintf("the status is %d; it must be from 100 to 599", r.Status)
		r.Status, r.Result = 0, engine.Garbled
	}
	r.Size = int64(len(body))
	r.Body = body[:min(len(body), f.Keep)]
}

// problem returns an error as problem details (RFC 9457), and sets the status to 500.
func (f *Frames) problem(r *Reply, e *HandlerError) []byte {
	r.Status = http.StatusInternalServerError
	r.Header = http.Header{"Content-Type": {"application/problem+json"}}
	trace := make([]string, len(e.Trace))
	for i, at := range e.Trace {
		trace[i] = strings.TrimPrefix(at, f.dir+string(filepath.Separator))
	}
	body, err := json.Marshal(map[string]any{"status": r.Status, "title": "the handler failed: " + e.Kind,
		"detail": e.Words(f.dir), "trace": trace})
	if err != nil {
		panic(err) // texts always marshal
	}
	return body
}

// reshape makes a reply of the parts that the user's pointers find in what was returned.
func (f *Frames) reshape(r *Reply, body []byte) []byte {
	fail := func(format string, args ...any) []byte {
		e := &HandlerError{Kind: "reply", Message: fmt.Sprintf(format, args...)}
		r.Why = e.Message
		return f.problem(r, e)
	}
	r.Header = http.Header{}
	doc, err := jsondiff.Decode(body)
	if err != nil {
		return fail("what the handler returned cannot be read: %v", err)
	}
	at := func(pointer string) (any, bool) {
		if pointer == "" {
			return nil, false
		}
		return jsondiff.Lookup(doc, pointer)
	}
	if f.shape.Status != "" {
		v, ok := at(f.shape.Status)
		status, err := strconv.Atoi(fmt.Sprint(v))
		switch {
		case !ok:
			return fail("reply.status: what the handler returned has nothing at %s; it has %s", f.shape.Status,
				keysOf(doc))
		case err != nil || status < 100 || status > 599:
			return fail("reply.status: %v at %s is not a status from 100 to 599", v, f.shape.Status)
		}
		r.Status = status
	}
	if v, ok := at(f.shape.Headers); ok {
		headers, isObject := v.(map[string]any)
		if !isObject {
			return fail("reply.headers: what is at %s is not an object", f.shape.Headers)
		}
		for name, value := range headers {
			all, isList := value.([]any)
			if !isList {
				all = []any{value}
			}
			for _, x := range all {
				r.Header.Add(name, fmt.Sprint(x))
			}
		}
	}
	kind := func(usual string) {
		if r.Header.Get("Content-Type") == "" {
			r.Header.Set("Content-Type", usual)
		}
	}
	v, ok := doc, true
	if f.shape.Body != "" {
		v, ok = at(f.shape.Body)
	}
	content, isText := v.(string)
	switch coded, _ := at(f.shape.Base64); {
	case !ok || v == nil:
		return nil
	case isText && coded == true:
		out, err := base64.StdEncoding.DecodeString(content)
		if err != nil {
			return fail("reply.base64: the body is not base64: %v", err)
		}
		kind("application/octet-stream")
		return out
	case isText && f.shape.Body != "":
		kind("text/plain; charset=utf-8")
		return []byte(content)
	}
	kind("application/json")
	out, err := json.Marshal(v)
	if err != nil {
		return fail("reply.body: %v", err)
	}
	return out
}

// keysOf returns the names of an object's members, for a sentence.
func keysOf(doc any) string {
	o, ok := doc.(map[string]any)
	if !ok {
		return "no members"
	}
	var names []string
	for name := range o {
		names = append(names, "/"+name)
	}
	slices.Sort(names)
	return strings.Join(names, ", ")
}
