package transport

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/plan"
)

// RequestType is the type of the event that an HTTP request is wrapped in where a
// function is spoken to over lines.
const RequestType = "http.request"

// line returns the line that stands for events: CloudEvents in the JSON format, a
// batch as an array; or what the function's form makes of them.
func line(ctx context.Context, f *plan.Function, request *event.Request, events []*event.Event, batch bool) Message {
	m := Message{Method: "line", Target: "standard input"}
	var text []byte
	switch {
	case Shaped(f):
		shape := shaped(ctx, f, request, events)
		if text, m.Wrong = shape.Body, shape.Wrong; m.Wrong != "" {
			return m
		}
	case request != nil:
		wrapped := wrap(request)
		text = wrapped.AppendJSON(nil)
	case batch:
		text = event.AppendBatch(nil, events)
	case f.Deliver == plan.DeliverBody:
		text = events[0].Data
	default:
		text = events[0].AppendJSON(nil)
	}
	if bytes.ContainsAny(text, "\r\n") {
		var one bytes.Buffer
		if json.Compact(&one, text) != nil {
			m.Wrong = "the event cannot be sent as one line: it has line breaks and is not JSON"
			return m
		}
		text = one.Bytes()
	}
	m.Body = append(text, '\n')
	return m
}

// wrap returns a request as an event whose data says what it is.
func wrap(r *event.Request) *event.Event {
	data := map[string]any{"method": r.Method, "target": r.Target}
	headers := map[string]string{}
	for _, h := range r.Header {
		name := strings.ToLower(h.Name)
		if was, ok := headers[name]; ok {
			headers[name] = was + ", " + h.Value
		} else {
			headers[name] = h.Value
		}
	}
	data["headers"] = headers
	if utf8.Valid(r.Body) {
		data["body"] = string(r.Body)
	} else {
		data["body_base64"] = base64.StdEncoding.EncodeToString(r.Body)
	}
	text, err := json.Marshal(data)
	if err != nil {
		panic(err) // texts always marshal
	}
	return &event.Event{ID: "request", Source: "/http", Type: RequestType, DataContentType: "application/json",
		Data: text}
}

// Lines speaks to a process over its standard input and output: a line for each
// request, and a line for each reply.
type Lines struct {
	in      io.WriteCloser
	replies chan said
	stray   func(line string)
	give    func() // gives the process up
	mu      sync.Mutex
	asked   bool
	id      string          // of the event that is asked about; "" for none, or several
	earlier map[string]bool // ids of events before that
	skipped int             // lines since it was asked that were no reply
	Keep    int
}

// mostEarlier bounds the ids that are remembered.
const mostEarlier = 4096

// said is a line that came, or the end of them.
type said struct {
	first, done time.Time
	text        []byte
	size        int64
	err         error

	json  bool     // it is valid JSON,
	full  bool     // and in the form of an envelope,
	reply envelope // which is this
}

// parse reads a line as JSON, once for all who ask.
func (s *said) parse() {
	if s.json = json.Valid(s.text); s.json {
		s.reply, s.full = envelopeOf(s.text)
	}
}

// NewLines takes up the two ends. stray gets lines that no one asked for; give is
// called when the process cannot be understood any more.
func NewLines(in io.WriteCloser, out io.ReadCloser, stray func(string), give func()) *Lines {
	l := &Lines{in: in, replies: make(chan said, 1), stray: stray, give: give, Keep: Kept}
	go func() {
		defer out.Close()
		l.listen(bufio.NewReaderSize(out, 16<<10))
	}()
	return l
}

// Close ends its standard input.
func (l *Lines) Close() { l.in.Close() }

func (l *Lines) listen(r *bufio.Reader) {
	defer close(l.replies)
	for {
		s := l.hear(r)
		if s.err != nil && s.size == 0 {
			return
		}
		s.parse()
		if l.answers(&s) {
			l.replies <- s
		} else if l.stray != nil {
			l.stray(string(s.text[:min(len(s.text), 1000)]))
		}
		if s.err != nil {
			return
		}
	}
}

// answers reports whether a line is the reply that is waited for. It is not when nothing
// was asked, when it is not JSON, or when it carries the id of another event.
func (l *Lines) answers(s *said) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.asked {
		return false
	}
	if whole := s.err == nil && int64(len(s.text)) >= s.size; whole && (!s.json || l.another(s)) {
		l.skipped++
		return false
	}
	l.asked = false
	return true
}

// another reports whether a line carries the id of another event than the one that is
// asked about: in the form of a reply, any other; elsewhere, where an id may be the
// function's own, that of an event before.
func (l *Lines) another(s *said) bool {
	if l.id == "" {
		return false
	}
	id := s.reply.ID
	if !s.full {
		var other struct {
			ID *string `json:"id"`
		}
		if json.Unmarshal(s.text, &other) != nil {
			return false
		}
		id = other.ID
	}
	return id != nil && *id != l.id && (s.full && s.reply.Status != 0 || l.earlier[*id])
}

// envelope is the form of a reply that has more than a body.
type envelope struct {
	ID      *string           `json:"id"`
	Status  int               `json:"status"`
	Headers map[string]string `json:"headers"`
	Body    json.RawMessage   `json:"body"`
}

// envelopeOf reads a line as an envelope; ok is false where it is another object.
func envelopeOf(text []byte) (e envelope, ok bool) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	return e, d.Decode(&e) == nil && (e.Status != 0 || e.Headers != nil)
}

// ask notes what is asked about.
func (l *Lines) ask(id string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.id != "" {
		if l.earlier == nil || len(l.earlier) > mostEarlier {
			l.earlier = map[string]bool{}
		}
		l.earlier[l.id] = true
	}
	delete(l.earlier, id) // an event may be dispatched again
	l.asked, l.id, l.skipped = true, id, 0
}

// idOf returns the id of the event that a line is; "" where it is none, or several.
func idOf(line []byte) string {
	if !bytes.HasPrefix(line, []byte(`{"specversion":`)) {
		return ""
	}
	var e struct {
		ID string `json:"id"`
	}
	_ = json.Unmarshal(line, &e)
	return e.ID
}

// hear reads one line, and keeps what may be kept of it.
func (l *Lines) hear(r *bufio.Reader) (s said) {
	if _, s.err = r.Peek(1); s.err != nil {
		return s
	}
	s.first = time.Now()
	for {
		part, err := r.ReadSlice('\n')
		s.size += int64(len(part))
		if room := max(l.Keep, mostRead) - len(s.text); room > 0 {
			s.text = append(s.text, part[:min(room, len(part))]...)
		}
		if err == nil {
			s.done = time.Now()
			s.size-- // the line break
			return s
		}
		if s.size > ReplyLimit {
			err = errLimit
		}
		if !errors.Is(err, bufio.ErrBufferFull) {
			s.err, s.done = err, time.Now()
			return s
		}
	}
}

// mostRead is how much of a line is kept to be understood.
const mostRead = 1 << 20

// Do writes a line and waits for the reply.
func (l *Lines) Do(ctx context.Context, m *Message, trace string) Reply {
	if m.Wrong != "" {
		return Reply{Done: time.Now(), Result: engine.Garbled, Why: m.Wrong}
	}
	text := withTrace(m.Body, trace)
	l.ask(idOf(text))
	r := Reply{Sent: time.Now()}
	_, _ = l.in.Write(text) // what it says counts; and if it is gone, the end of that tells
	select {
	case s, ok := <-l.replies:
		if !ok {
			r.Done, r.Result, r.Why = time.Now(), engine.Disconnected, "its standard output ended before a reply"+
				l.noReply()
			return r
		}
		r.Received, r.Done = s.first, s.done
		switch {
		case errors.Is(s.err, errLimit):
			l.give()
			r.Result, r.Why = engine.TooLarge, fmt.Sprintf("the reply is larger than %d MiB", ReplyLimit>>20)
		case s.err != nil:
			r.Result, r.Why = engine.Disconnected, "its standard output ended in the middle of a line"
		default:
			l.understand(&r, &s)
		}
	case <-ctx.Done():
		r.Done, r.Result, r.Why = time.Now(), engine.Disconnected, "it was stopped before a reply"+l.noReply()
	}
	return r
}

// noReply returns a note about the lines that were taken for log lines, "" where there were none.
func (l *Lines) noReply() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.skipped == 0 {
		return ""
	}
	return fmt.Sprintf("; of its standard output, %d lines since the event are log lines: they are not JSON, or have "+
		"another event's id",
		l.skipped)
}

// withTrace enters the trace context into an event (CloudEvents distributed
// tracing extension), where the line is one, and returns a request that was wrapped
// an id of its own.
func withTrace(line []byte, trace string) []byte {
	const begin, wrapped = `{"specversion":"1.0"`, `,"id":"request"`
	rest, ok := bytes.CutPrefix(line, []byte(begin))
	if !ok || len(trace) < 36 || bytes.Contains(line, []byte(`"traceparent":`)) {
		return line
	}
	out := append([]byte(begin), `,"traceparent":"`+trace+`"`...)
	if after, ok := bytes.CutPrefix(rest, []byte(wrapped)); ok {
		out, rest = append(out, `,"id":"`+trace[3:35]+`"`...), after
	}
	return append(out, rest...)
}

// understand reads a reply: an object with a status or headers, and nothing beside them
// but a body and the event's id, is what it says; all other JSON is the body of a 200.
func (l *Lines) understand(r *Reply, s *said) {
	text := bytes.TrimRight(s.text, "\r\n")
	r.Status, r.Size, r.Header = http.StatusOK, s.size, http.Header{}
	if s.json {
		r.Header.Set("Content-Type", "application/json")
	}
	if full := s.reply; s.full {
		if full.Status == 0 {
			full.Status = http.StatusOK
		}
		if full.Status < 200 || full.Status > 599 {
			r.Status, r.Result, r.Why = 0, engine.Garbled,
				fmt.Sprintf("the reply has status %d; it must be from 200 to 599",
					full.Status)
			return
		}
		r.Status, text = full.Status, full.Body
		r.Header = http.Header{}
		var plain string
		if json.Unmarshal(full.Body, &plain) == nil {
			text = []byte(plain)
		} else if len(full.Body) > 0 {
			r.Header.Set("Content-Type", "application/json")
		}
		for name, v := range full.Headers {
			r.Header.Set(name, v)
		}
		r.Size = int64(len(text))
	}
	r.Timing = strings.Join(r.Header["Server-Timing"], ", ")
	r.RetryAfter = retryAfter(r.Header.Get("Retry-After"), r.Received)
	r.Body = text[:min(len(text), l.Keep)]
}
